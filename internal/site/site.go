// Package site is what a place where machines are made can do, whatever kind
// of place it is. Each kind is a folder below.
package site

import (
	"context"
	"errors"

	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
)

// Site is one place where machines are made. Every act may be asked for again
// with the same values and then changes nothing, so that a caller that lost
// the reply simply repeats itself.
//
// An act that takes long returns a task that is not yet settled; it is then
// asked for with Task. All methods may be called side by side.
type Site interface {
	// Survey tells what the site has, machines included.
	Survey(ctx context.Context) (*Survey, error)
	// Clone makes a shut-off machine. When the identity already exists,
	// nothing is made.
	Clone(ctx context.Context, order CloneOrder) (Task, error)
	// Shape sets CPUs, memory and the size of the disk. A running machine is
	// shut down in an orderly way and started again.
	Shape(ctx context.Context, id uuid.UUID, shape machine.Shape) (Task, error)
	// Wire connects the adapters, as many as are given and no other.
	Wire(ctx context.Context, id uuid.UUID, adapters []machine.Adapter) (Task, error)
	// Seed attaches a seed image in place of any other.
	Seed(ctx context.Context, id uuid.UUID, image []byte) (Task, error)
	// Checkpoint keeps the machine's present state under a name.
	Checkpoint(ctx context.Context, id uuid.UUID, name string) (Task, error)
	// Record stores the mark by which the machine is known as ours.
	Record(ctx context.Context, id uuid.UUID, mark Mark) (Task, error)
	// Power starts the machine or shuts it down.
	Power(ctx context.Context, id uuid.UUID, power machine.Power) (Task, error)
	// Machine tells how a machine is, and what its guest reports.
	Machine(ctx context.Context, id uuid.UUID) (*Machine, error)
	// Remove deletes a machine and all that belongs to it. One that is not
	// there is removed already.
	Remove(ctx context.Context, id uuid.UUID) (Task, error)
	// Task tells how a task goes.
	Task(ctx context.Context, id string) (Task, error)
}

// The errors that callers tell apart; others are the site's own words.
var (
	// ErrNotFound means that what was named is not at the site.
	ErrNotFound = errors.New("not there")
	// ErrUnreachable means that the site gave no answer, or none that counts.
	ErrUnreachable = errors.New("the site cannot be reached")
	// ErrRefused means that the site understood and will not do it.
	ErrRefused = errors.New("the site refused")
)

// CloneOrder asks for a machine.
type CloneOrder struct {
	Identity uuid.UUID `json:"-"`
	Name     string    `json:"name"`
	machine.Clone
	Mark Mark `json:"mark"`
}

// Mark is what a site stores with a machine that is ours: who made it and what
// people want to know of it. It holds no secret.
type Mark struct {
	Ledger      uuid.UUID `json:"ledger"`
	Key         string    `json:"key"`
	Generation  int       `json:"generation"`
	Fingerprint string    `json:"fingerprint,omitempty"`
	Run         string    `json:"run,omitempty"`
	machine.Mark
}

// TaskState is how far a task is.
type TaskState string

// The states of a task.
const (
	Queued  TaskState = "queued"
	Running TaskState = "running"
	Done    TaskState = "done"
	Failed  TaskState = "failed"
)

// Task is an act that the site is at. One without an id is settled at once.
type Task struct {
	ID    string    `json:"id,omitempty"`
	State TaskState `json:"state"`
	Share float64   `json:"share,omitempty"` // done so far, from 0 to 1
	Error string    `json:"error,omitempty"` // why it failed, in the site's words
}

// Settled tells whether the task came to its end.
func (t Task) Settled() bool { return t.State == Done || t.State == Failed }

// Survey is what a site has.
type Survey struct {
	Hosts     []Host     `json:"hosts"`
	Stores    []Store    `json:"stores"`
	Networks  []string   `json:"networks"`
	Folders   []string   `json:"folders"`
	Templates []Template `json:"templates"`
	Machines  []Machine  `json:"machines"`
}

// Host runs machines.
type Host struct {
	Name       string       `json:"name"`
	CPUs       int          `json:"cpus"`
	Memory     machine.Size `json:"memory"`
	FreeMemory machine.Size `json:"free_memory"`
	Stores     []string     `json:"stores"` // those it reaches
}

// Store holds disks.
type Store struct {
	Name     string       `json:"name"`
	Capacity machine.Size `json:"capacity"`
	Free     machine.Size `json:"free"`
}

// Template is a template as the site has it.
type Template struct {
	Name   string       `json:"name"`
	CPUs   int          `json:"cpus"`
	Memory machine.Size `json:"memory"`
	Disk   machine.Size `json:"disk"` // as the guest sees it
	Used   machine.Size `json:"used"` // as a full clone takes it
}

// Machine is a machine as the site has it.
type Machine struct {
	ID    uuid.UUID     `json:"id"`
	Name  string        `json:"name"`
	Mark  *Mark         `json:"mark,omitempty"` // nil if it is not ours
	Host  string        `json:"host"`
	Store string        `json:"store"`
	Power machine.Power `json:"power"`
	machine.Shape
	Report *Report `json:"report,omitempty"` // nil until the guest reports
}

// Report is what a guest says of itself.
type Report struct {
	Hostname  string              `json:"hostname"`
	FQDN      string              `json:"fqdn,omitempty"`
	Addresses map[string][]string `json:"addresses"` // by MAC address, with prefix lengths
	Logins    []string            `json:"logins,omitempty"`
	HostKey   string              `json:"host_key,omitempty"`
	Timezone  string              `json:"timezone,omitempty"`
	Finished  bool                `json:"finished"` // the first boot's work is done
	Errors    []string            `json:"errors,omitempty"`
}
