// Package site is what a place where machines are made can do, whatever kind
// of place it is. Each kind is a folder below.
package site

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/disk"
	"mintbatch/internal/core/machine"
)

// Site is one place where machines are made. Every act may be asked for again
// with the same values and then changes nothing, so that a caller that lost
// the reply simply repeats itself.
//
// An act that takes long returns a task that is not yet settled; it is then
// asked for with Task. All methods may be called side by side.
type Site interface {
	// Survey reports what the site has, machines included.
	Survey(ctx context.Context) (*contract.Survey, error)
	// Clone makes a shut-off machine. When the identity already exists,
	// nothing is made.
	Clone(ctx context.Context, order contract.CloneOrder) (contract.Task, error)
	// Shape sets CPUs, memory, the size of the disk, and data disks. For what a
	// running machine cannot take while it runs, it is shut down in an orderly way
	// and started again, if it may be; else it is refused.
	Shape(ctx context.Context, id uuid.UUID, shape machine.Shape, restart contract.Restart) (contract.Task, error)
	// Wire connects the adapters, as many as are given and no other; a running
	// machine as with Shape.
	Wire(ctx context.Context, id uuid.UUID, adapters []machine.Card, restart contract.Restart) (contract.Task, error)
	// Seed attaches a seed image in place of any other.
	Seed(ctx context.Context, id uuid.UUID, image []byte) (contract.Task, error)
	// Insert puts an image of a store, STORE/NAME, into a CD drive of its own; an empty one takes
	// it out, while the machine runs, too.
	Insert(ctx context.Context, id uuid.UUID, image string) (contract.Task, error)
	// Carry puts an image of big files into a CD drive of its own, in place of any other; none takes
	// it out and deletes it.
	Carry(ctx context.Context, id uuid.UUID, image contract.Image) (contract.Task, error)
	// Checkpoint keeps the machine's present state under a name.
	Checkpoint(ctx context.Context, id uuid.UUID, name string) (contract.Task, error)
	// Restore brings the machine back to a checkpoint, running if it ran then.
	Restore(ctx context.Context, id uuid.UUID, name string) (contract.Task, error)
	// Detach makes a linked clone independent of its template.
	Detach(ctx context.Context, id uuid.UUID) (contract.Task, error)
	// Drop deletes a checkpoint. One that is not there is deleted already.
	Drop(ctx context.Context, id uuid.UUID, name string) (contract.Task, error)
	// Record stores the mark by which the machine is known as ours.
	Record(ctx context.Context, id uuid.UUID, mark contract.Mark) (contract.Task, error)
	// Rename gives the machine another name, with the mark that goes with it. One that cannot
	// take it while it runs is shut down and started again, as with Shape.
	Rename(ctx context.Context, id uuid.UUID, name string, mark contract.Mark, restart contract.Restart) (contract.Task, error)
	// Power starts the machine, shuts it down or cuts its power.
	Power(ctx context.Context, id uuid.UUID, power machine.Power) (contract.Task, error)
	// Machine reports how a machine is, and what its guest reports.
	Machine(ctx context.Context, id uuid.UUID) (*contract.Machine, error)
	// Examine lets the guest look for things, and returns what it lacks.
	Examine(ctx context.Context, id uuid.UUID, checks []contract.Check) ([]contract.Check, error)
	// Remove deletes a machine and all that belongs to it, or all but its disks.
	// One that is not there is removed already. Disks that were once kept are
	// never deleted, and no machine is made of their identity.
	Remove(ctx context.Context, id uuid.UUID, disks contract.Disks) (contract.Task, error)
	// Task returns the state of a task.
	Task(ctx context.Context, id string) (contract.Task, error)
}

// Teller is a site that can tell a guest which runs its new host name.
type Teller interface {
	// TellName returns an error if the guest cannot be told.
	TellName(ctx context.Context, id uuid.UUID, hostname, fqdn string) (contract.Task, error)
}

// DiskReader is a site that lets the disk of a template be read in parts.
type DiskReader interface {
	// Disk opens what a guest of the template sees of its system disk; a template as the site
	// knows it, STORE/VOLUME, or that of a machine. It is read for as long as the context lasts.
	// Changed is as in contract.Template.
	Disk(ctx context.Context, template string) (d disk.Disk, changed string, err error)
}

// TemplateMaker is a site that makes templates of images, and deletes those that were so made.
type TemplateMaker interface {
	// MakeTemplate makes a template of a qcow2 image. It is a template only once all of it is there:
	// what an interrupted one has left is replaced by another with the same identity.
	MakeTemplate(ctx context.Context, order contract.TemplateOrder, image contract.Image) (contract.Task, error)
	// DropTemplate deletes a template of a version of a ledger, or what is left of one that was not
	// finished. One that is not there is dropped already; one that others depend on is refused.
	DropTemplate(ctx context.Context, version contract.Version, identity uuid.UUID) (contract.Task, error)
}

// Inspector is a site that can say whether what it has of a machine is whole.
type Inspector interface {
	// Faults says what of a machine is missing, damaged or changed; nil if nothing is.
	Faults(ctx context.Context, id uuid.UUID) ([]string, error)
	// WriteDescriptions writes what describes the machine anew.
	WriteDescriptions(ctx context.Context, id uuid.UUID) error
}

// Portable is a site whose machines are files that may be carried elsewhere.
type Portable interface {
	// Files lists the files of a machine that is whole, and those that it depends on.
	Files(ctx context.Context, id uuid.UUID) ([]PortableFile, error)
}

// PortableFile is a file of a machine.
type PortableFile struct {
	Path string
	// Name is where it is in the folder of the site, with / between folders. The files of a machine need each other there.
	Name string
	// Base is set of what other machines may need as well.
	Base bool
}

// Runner is a site that can let a guest run a script.
type Runner interface {
	// RunScript starts a script as the guest's administrator, by its agent, and does not wait for its end. The
	// first argument of a shell's script is `wait`. An ErrNotReady means that the agent does not answer yet.
	RunScript(ctx context.Context, id uuid.UUID, script Script) error
}

// Script is a program for a guest.
type Script struct {
	Text       string
	PowerShell bool // else it is one of a POSIX shell
}

// LeaseKeeper is a site whose networks keep addresses for machines by DHCP, also
// once the machines are gone.
type LeaseKeeper interface {
	// DropLeases gives up what is kept for the adapters of a machine that is gone.
	DropLeases(ctx context.Context, name string, adapters []machine.Card) error
}

// Patience is how long a site that can wait may take to answer for something that is not
// settled yet.
const Patience = 10 * time.Second

// Reporter is a site that can be asked to answer for a machine once its guest reports.
type Reporter interface {
	// AwaitReport is Machine, but a site that can wait answers only once the guest reports,
	// or when its patience is over.
	AwaitReport(ctx context.Context, id uuid.UUID) (*contract.Machine, error)
}

// SpecSource is a site whose surveys leave out the specs in marks: they are most of a survey, and
// its caller knows most of them.
type SpecSource interface {
	// Specs returns the specs in the marks of some machines, as far as they have one.
	Specs(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]*machine.Spec, error)
}

// Concurrent is a site that may allow different acts on one machine at the same time.
type Concurrent interface {
	// SideBySide reports whether it does, by its last survey.
	SideBySide() bool
}

// The errors that callers distinguish; others are the site's own words.
var (
	// ErrNotFound means that what was named is not at the site.
	ErrNotFound = errors.New("not found")
	// ErrUnreachable means that the site gave no answer, or none that counts.
	ErrUnreachable = errors.New("the site cannot be reached")
	// ErrRefused means that the site understood and will not do it.
	ErrRefused = errors.New("the site refused")
	// ErrNotReady means that a guest does not answer yet.
	ErrNotReady = errors.New("the guest does not answer yet")
	// ErrNoShutdown means that a guest does not shut down when it is asked to.
	ErrNoShutdown = errors.New("the guest did not shut down when asked")
)
