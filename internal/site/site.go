// Package site is what a place where machines are made can do, whatever kind
// of place it is. Each kind is a folder below.
package site

import (
	"context"
	"errors"

	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/survey"
)

// Site is one place where machines are made. Every act may be asked for again
// with the same values and then changes nothing, so that a caller that lost
// the reply simply repeats itself.
//
// An act that takes long returns a task that is not yet settled; it is then
// asked for with Task. All methods may be called side by side.
type Site interface {
	// Survey tells what the site has, machines included.
	Survey(ctx context.Context) (*survey.Survey, error)
	// Clone makes a shut-off machine. When the identity already exists,
	// nothing is made.
	Clone(ctx context.Context, order survey.CloneOrder) (survey.Task, error)
	// Shape sets CPUs, memory, the size of the disk, and data disks. For what a
	// running machine cannot take while it runs, it is shut down in an orderly way
	// and started again, if it may be; else it is refused.
	Shape(ctx context.Context, id uuid.UUID, shape machine.Shape, restart survey.Restart) (survey.Task, error)
	// Wire connects the adapters, as many as are given and no other; a running
	// machine as with Shape.
	Wire(ctx context.Context, id uuid.UUID, adapters []machine.Adapter, restart survey.Restart) (survey.Task, error)
	// Seed attaches a seed image in place of any other.
	Seed(ctx context.Context, id uuid.UUID, image []byte) (survey.Task, error)
	// Checkpoint keeps the machine's present state under a name.
	Checkpoint(ctx context.Context, id uuid.UUID, name string) (survey.Task, error)
	// Record stores the mark by which the machine is known as ours.
	Record(ctx context.Context, id uuid.UUID, mark survey.Mark) (survey.Task, error)
	// Power starts the machine, shuts it down or cuts its power.
	Power(ctx context.Context, id uuid.UUID, power machine.Power) (survey.Task, error)
	// Machine tells how a machine is, and what its guest reports.
	Machine(ctx context.Context, id uuid.UUID) (*survey.Machine, error)
	// Examine lets the guest look for things, and returns what it lacks.
	Examine(ctx context.Context, id uuid.UUID, checks []survey.Check) ([]survey.Check, error)
	// Remove deletes a machine and all that belongs to it, or all but its disks.
	// One that is not there is removed already. Disks that were once kept are
	// never deleted, and no machine is made of their identity.
	Remove(ctx context.Context, id uuid.UUID, disks survey.Disks) (survey.Task, error)
	// Task tells how a task goes.
	Task(ctx context.Context, id string) (survey.Task, error)
}

// The errors that callers tell apart; others are the site's own words.
var (
	// ErrNotFound means that what was named is not at the site.
	ErrNotFound = errors.New("not there")
	// ErrUnreachable means that the site gave no answer, or none that counts.
	ErrUnreachable = errors.New("the site cannot be reached")
	// ErrRefused means that the site understood and will not do it.
	ErrRefused = errors.New("the site refused")
	// ErrDeaf means that a guest does not shut down when it is asked to.
	ErrDeaf = errors.New("its guest does not shut down")
)
