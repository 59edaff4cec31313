package mint

import (
	"context"
	"fmt"
	"time"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/plan"
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

// Past reports whether the machine's last day is over.
func (d Due) Past() bool { return d.Days < 0 }

// Sweep lists the machines that are past their date, and those that will be within so
// many days. Sites that cannot be reached are reported in the error.
func (d *Desk) Sweep(ctx context.Context, names []string, today time.Time, within int, missing plan.Missing) ([]Due, error) {
	entries, _, unreachable := d.List(ctx, ListRequest{Names: names, Contact: plan.Online, Missing: missing})
	if entries == nil && unreachable != nil {
		return nil, unreachable
	}
	for _, e := range entries {
		if e.AtSite == notListed {
			return nil, fmt.Errorf("site %s does not list machines that were made there; check the site, and if they were deleted, give --accept-missing", e.Site)
		}
	}
	owned, err := d.OwnedAll(ctx)
	if err != nil {
		return nil, err
	}
	works := map[machine.Key]proof.Work{}
	for _, w := range owned {
		works[w.Key] = w
	}
	rows := map[machine.Key]*batch.Wanted{}
	for _, w := range d.Wanted {
		rows[w.Key] = w
	}
	midnight := time.Date(today.Year(), today.Month(), today.Day(), 0, 0, 0, 0, time.UTC)
	var all []Due
	for _, e := range entries {
		until := e.Spec.Info.Until
		if row := rows[e.Key]; row != nil && row.Origin("until").Value != "" {
			until = row.Info.Until
		}
		last, err := time.Parse(time.DateOnly, until)
		if err != nil {
			continue // it has no date
		}
		days := int(last.Sub(midnight).Hours() / 24)
		if days <= within {
			all = append(all, Due{Key: e.Key, Until: until, Days: days, Owner: e.Spec.Info.Owner, Power: e.Power, work: works[e.Key]})
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

// Stopping is the task of shutting machines down.
func Stopping(command string, works []proof.Work, o Order) Task {
	t := Task{Command: command, Order: o, do: (*run.Engine).Stop}
	for _, w := range works {
		if w.BeingRenamed {
			w.Refusal = "it is being renamed, which was interrupted: finish that first"
			t.Refused = append(t.Refused, w)
		} else {
			t.Works = append(t.Works, w)
		}
	}
	return t
}
