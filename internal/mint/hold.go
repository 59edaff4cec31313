package mint

import (
	"context"
	"fmt"
	"slices"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
)

// Scope tells which machines a command is about.
type Scope func(machine.Key) bool

// Everything is the scope of what concerns the ledger as a whole.
func Everything(machine.Key) bool { return true }

// Named is the scope of names and globs; of everything where there are none.
func Named(globs []string) Scope {
	return func(key machine.Key) bool { return named(globs, key.Name) }
}

// Of is the scope of some works.
func Of(works []proof.Work) Scope {
	return func(key machine.Key) bool {
		return slices.ContainsFunc(works, func(w proof.Work) bool { return w.Key == key })
	}
}

// InSheet is the scope of the sheet's machines whose names match, or of all.
func (s *Session) InSheet(globs []string) Scope {
	wanted := map[machine.Key]bool{}
	for _, w := range s.Wanted {
		wanted[w.Key] = true
	}
	return func(key machine.Key) bool { return wanted[key] && named(globs, key.Name) }
}

// NotInSheet is the scope of strays.
func (s *Session) NotInSheet() Scope {
	in := s.InSheet(nil)
	return func(key machine.Key) bool { return !in(key) }
}

// HoldLedger keeps others from planning, until the run is claimed or the session
// closed. Who has the ledger, or works on machines in the scope, is told in a
// *ledger.Busy.
func (s *Session) HoldLedger(ctx context.Context, command string, scope Scope) error {
	user, host := operator()
	return s.Ledger.Hold(ctx, fmt.Sprintf("%s by %s on %s", command, user, host), scope)
}

// Claim starts a run on some works: their machines and addresses are kept for
// it, and others may plan again where several may work at once.
func (s *Session) Claim(ctx context.Context, command string, works []proof.Work) error {
	if len(works) == 0 {
		return nil
	}
	var reserved []ledger.Reservation
	keys := make([]machine.Key, len(works))
	for i, w := range works {
		keys[i] = w.Key
		if w.Word == proof.New || w.Word == proof.Remake || w.Changes("network") {
			reserved = append(reserved, s.reserved[w.Key]...)
		}
	}
	claimed, err := s.startRun(ctx, command, keys, reserved)
	if err != nil {
		return err
	}
	s.claimed = claimed
	return s.Ledger.Admit()
}

// Disclaim gives back what was claimed: nothing is to be done.
func (s *Session) Disclaim(ctx context.Context) error {
	if s.claimed.ID == "" {
		return nil
	}
	return s.Ledger.DropRun(context.WithoutCancel(ctx), s.claimed.ID)
}

// startRun writes down that a run begins.
func (s *Session) startRun(ctx context.Context, command string, works []machine.Key, reserved []ledger.Reservation) (ledger.Run, error) {
	r := ledger.Run{ID: newRunID(), Command: command, Sheet: s.sheetDigest, Setup: s.setupDigest, Started: time.Now()}
	r.User, r.Host = operator()
	return r, s.Ledger.StartRun(ctx, r, works, reserved)
}
