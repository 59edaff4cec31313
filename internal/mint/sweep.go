package mint

import (
	"context"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/run"
)

// Due is a machine whose date is over, or soon will be.
type Due struct {
	machine.Key
	Until string        `json:"until"` // the last day on which it is wanted
	Days  int           `json:"days"`  // that are left; negative if it is past its date
	Owner string        `json:"owner,omitempty"`
	Power machine.Power `json:"power,omitempty"` // as the site has it

	work proof.Work
}

// Past tells whether the machine's last day is over.
func (d Due) Past() bool { return d.Days < 0 }

// Sweep lists the machines that are past the date of their row, and those that
// will be in so many days. Sites that cannot be reached are told in the error.
func (s *Session) Sweep(ctx context.Context, names []string, today time.Time, ahead int) ([]Due, error) {
	entries, unreachable := s.List(ctx, names, false)
	if entries == nil && unreachable != nil {
		return nil, unreachable
	}
	owned, err := s.Owned(ctx, []string{"*"})
	if err != nil {
		return nil, err
	}
	works := map[machine.Key]proof.Work{}
	for _, w := range owned {
		works[w.Key] = w
	}
	midnight := time.Date(today.Year(), today.Month(), today.Day(), 0, 0, 0, 0, time.UTC)
	var all []Due
	for _, e := range entries {
		last, err := time.Parse(time.DateOnly, e.Spec.Mark.Until)
		if err != nil {
			continue // it has no date
		}
		days := int(last.Sub(midnight).Hours() / 24)
		if days <= ahead {
			all = append(all, Due{Key: e.Key, Until: e.Spec.Mark.Until, Days: days, Owner: e.Spec.Mark.Owner, Power: e.Power, work: works[e.Key]})
		}
	}
	return all, unreachable
}

// Works are those of machines that are due, for Stop and Retire.
func Works(due []Due) []proof.Work {
	works := make([]proof.Work, len(due))
	for i, d := range due {
		works[i] = d.work
	}
	return works
}

// Stop shuts machines down. They must have been claimed.
func (s *Session) Stop(ctx, stop context.Context, works []proof.Work, o Order) (*Minted, error) {
	return s.removing(ctx, stop, works, o, (*run.Engine).Stop)
}
