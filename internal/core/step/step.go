// Package step is the table of the steps that machines go through.
package step

import (
	"image/color"
	"slices"
)

// Name names a step.
type Name string

// The steps, in the order in which a new machine goes through them, and those of a
// machine that is shut down or deleted.
const (
	Reserve    Name = "reserve"
	Enrol      Name = "enrol" // in the systems around it
	Clone      Name = "clone"
	Shape      Name = "shape"
	Wire       Name = "wire"
	Seed       Name = "seed"
	Checkpoint Name = "checkpoint"
	Record     Name = "record"
	Start      Name = "start"
	Confirm    Name = "confirm"
	Detach     Name = "detach"  // a linked clone from its template
	Keep       Name = "keep"    // a checkpoint of a machine that is confirmed
	Await      Name = "await"   // until a guest reports that may have been restarted
	Restore    Name = "restore" // to a checkpoint
	Drop       Name = "drop"    // a checkpoint
	Clean      Name = "clean"   // of what a template must not have
	Insert     Name = "insert"  // media into a CD drive
	Carry      Name = "carry"   // big files, on an image of their own
	Eject      Name = "eject"
	Rename     Name = "rename"
	Tell       Name = "tell" // a guest its new name
	Stop       Name = "stop"
	Withdraw   Name = "withdraw" // from the systems around it
	Remove     Name = "remove"
)

// Step is an entry of the table.
type Step struct {
	Name Name
	// Undo is the step that takes it back; empty if that is part of another's.
	Undo Name
	// Phase is how charts show it.
	Phase Phase
	// Share is how far a new machine is when the step begins, from 0 to 1.
	Share float64
	// Listed steps have a column of their own in the table of a run.
	Listed bool
}

// Phase is a kind of step that charts tell from others.
type Phase struct {
	Name   string
	Letter string // in charts of letters
	Color  color.RGBA
}

// The phases; their colours also differ in grey.
var (
	Cloning     = Phase{"clone", "c", color.RGBA{0x1b, 0x4f, 0x8a, 0xff}}
	Configuring = Phase{"shape, wire, seed, record", "w", color.RGBA{0xe8, 0x8d, 0x2a, 0xff}}
	Starting    = Phase{"start", "s", color.RGBA{0x2f, 0x9e, 0x6e, 0xff}}
	Confirming  = Phase{"confirm", "f", color.RGBA{0xb9, 0xd9, 0xc4, 0xff}}
	Removing    = Phase{"remove", "r", color.RGBA{0xc0, 0x3a, 0x2b, 0xff}}
)

// table has the steps in order.
var table = []Step{
	{Name: Reserve, Phase: Configuring},
	{Name: Enrol, Undo: Withdraw, Phase: Configuring, Share: 0.01, Listed: true},
	{Name: Clone, Undo: Remove, Phase: Cloning, Share: 0.02, Listed: true},
	{Name: Shape, Phase: Configuring, Share: 0.45, Listed: true},
	{Name: Wire, Phase: Configuring, Share: 0.48, Listed: true},
	{Name: Seed, Phase: Configuring, Share: 0.5, Listed: true},
	{Name: Insert, Undo: Eject, Phase: Configuring, Share: 0.51, Listed: true},
	{Name: Carry, Undo: Eject, Phase: Cloning, Share: 0.51, Listed: true},
	{Name: Checkpoint, Phase: Configuring, Share: 0.52, Listed: true},
	{Name: Record, Phase: Configuring, Share: 0.55, Listed: true},
	{Name: Start, Undo: Stop, Phase: Starting, Share: 0.57, Listed: true},
	{Name: Confirm, Phase: Confirming, Share: 0.6, Listed: true},
	{Name: Detach, Phase: Cloning, Share: 0.02, Listed: true},
	{Name: Eject, Phase: Configuring, Share: 0.94, Listed: true},
	{Name: Keep, Phase: Configuring, Share: 0.95, Listed: true},
	{Name: Await, Phase: Confirming, Share: 0.97, Listed: true},
	{Name: Restore, Phase: Removing, Listed: true},
	{Name: Drop, Phase: Removing, Listed: true},
	{Name: Clean, Phase: Removing},
	{Name: Rename, Phase: Configuring, Listed: true},
	{Name: Tell, Phase: Configuring, Share: 0.97, Listed: true},
	{Name: Withdraw, Phase: Removing, Listed: true},
	{Name: Remove, Phase: Removing, Listed: true},
	{Name: Stop, Phase: Configuring, Listed: true},
}

// All lists the steps in order.
func All() []Step { return slices.Clone(table) }

// Phases lists the phases in the order of their steps.
func Phases() []Phase { return []Phase{Cloning, Configuring, Starting, Confirming, Removing} }

// Of returns the entry of a step; of one that is not known, one that is only
// configuring.
func Of(name Name) Step {
	i := slices.IndexFunc(table, func(s Step) bool { return s.Name == name })
	if i < 0 {
		return Step{Name: name, Phase: Configuring}
	}
	return table[i]
}
