// Package enrol enters machines into the systems around them, such as DNS servers; each kind of system is a folder below.
package enrol

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mintbatch/internal/core/entry"
)

// System is one system around machines. Its methods may be called side by side.
type System interface {
	// Look tells what stands under names, in their order.
	Look(ctx context.Context, names []string) ([]entry.Seen, error)
	// Change brings an item to what it is to be. It asks entry.Change.Judge first, and lets the system itself refuse it if that
	// does not hold any more; asked again, it changes nothing. What others have entered is an entry.ErrForeign.
	Change(ctx context.Context, c entry.Change) error
}

// Checker is a System of which several servers answer for what stands there.
type Checker interface {
	// Check tells of each name which servers do not have what is wanted, in words; nothing if all have.
	Check(ctx context.Context, items []entry.Item) ([][]string, error)
}

// Placer is a System in which not every name has a place.
type Placer interface {
	// Place reports why a name cannot be entered, whatever stands under it.
	Place(ctx context.Context, name string) error
}

// Domain is a System of accounts with which guests join a domain.
type Domain interface {
	System
	// SetPassword gives an account that has been entered another password. Whether that may be done is asked of entry.Change.Judge.
	SetPassword(ctx context.Context, c entry.Change, password string) error
}

// ErrUnreachable means that a system gave no answer, or none that can be used: whether it has done what it was asked is not
// known.
var ErrUnreachable = errors.New("cannot be reached")

// ErrRefused means that a system does not allow something.
var ErrRefused = errors.New("was refused")

// How often a change is tried at a system that gives no answer, and how long it is left alone in between.
const (
	mostTried  = 3
	retryDelay = 300 * time.Millisecond
)

// Make makes changes in their order, and looks again where a reply was lost.
func Make(ctx context.Context, find func(system string) (System, error), changes []entry.Change) error {
	for _, c := range changes {
		s, err := find(c.System)
		if err != nil {
			return err
		}
		if err := Try(ctx, func() error { return s.Change(ctx, c) }); err != nil {
			return fmt.Errorf("%s: %w", c.System, err)
		}
	}
	return nil
}

// Place reports why one of some items cannot be entered in its system.
func Place(ctx context.Context, find func(system string) (System, error), items []entry.Item) error {
	for _, i := range items {
		s, err := find(i.System)
		if err != nil {
			return err
		}
		if p, is := s.(Placer); is {
			if err := Try(ctx, func() error { return p.Place(ctx, i.Name) }); err != nil {
				return fmt.Errorf("%s: %w", i.System, err)
			}
		}
	}
	return nil
}

// Try does something again while the system that it is done at gives no answer.
func Try(ctx context.Context, do func() error) error {
	for tried := 1; ; tried++ {
		err := do()
		if !errors.Is(err, ErrUnreachable) || ctx.Err() != nil || tried == mostTried {
			return err
		}
		select {
		case <-ctx.Done():
		case <-time.After(retryDelay):
		}
	}
}
