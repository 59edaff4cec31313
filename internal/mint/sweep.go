package mint

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"time"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/plan"
	"mintbatch/internal/run"
)

// Due is a machine whose date is over, or soon will be.
type Due struct {
	machine.Key
	Until string        `json:"until,omitempty"` // the last day on which it is needed
	Keep  string        `json:"keep,omitempty"`  // the last day on which its disks are, if that is another
	Days  int           `json:"days"`            // that are left to the first of these dates; negative if it is past it
	Owner string        `json:"owner,omitempty"`
	Power machine.Power `json:"power,omitempty"` // as the site has it

	ends int // the days that are left before it may be retired

	work proof.Work
}

// Past reports whether the machine's last day is over.
func (d Due) Past() bool { return d.Days < 0 }

// Ended reports whether the last day of its disks is over, or its own if these have none.
func (d Due) Ended() bool { return d.ends < 0 }

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
	rows := d.ByKey()
	var all []Due
	for _, e := range entries {
		dates := e.Spec.Info
		if row := rows[e.Key]; row != nil {
			said := row.Info.AsExtended(dates)
			if row.Origin("until").Value != "" {
				dates.Until = said.Until
			}
			if row.Origin("keep").Value != "" {
				dates.Keep = said.Keep
			}
		}
		days, dated := daysTo(cmp.Or(dates.Until, dates.Keep), today)
		ends, _ := daysTo(dates.Ends(), today)
		if dated && days <= within {
			all = append(all, Due{Key: e.Key, Until: dates.Until, Keep: dates.Keep, Days: days, ends: ends, Owner: e.Spec.Info.Owner, Power: e.Power, work: works[e.Key]})
		}
	}
	return all, unreachable
}

// daysTo counts the days from today to a date. What is none is never over.
func daysTo(date string, today time.Time) (days int, dated bool) {
	last, err := time.Parse(time.DateOnly, date)
	if err != nil {
		return math.MaxInt, false
	}
	midnight := time.Date(today.Year(), today.Month(), today.Day(), 0, 0, 0, 0, time.UTC)
	return int(last.Sub(midnight).Hours() / 24), true
}

// Works are those of machines that are due, for Stop and Retire.
func Works(due []Due) []proof.Work {
	works := make([]proof.Work, len(due))
	for i, d := range due {
		works[i] = d.work
	}
	return works
}

// Sweeping is the task of shutting some machines down and retiring others.
func (d *Desk) Sweeping(command string, stop, retire []proof.Work, o Order) Task {
	t := Task{Command: command, Order: o}
	stop, t.Refused = d.powered(stop, nil)
	for _, w := range stop {
		if w.BeingRenamed {
			w.Refusal = "it is being renamed, which was interrupted: finish that first"
			t.Refused = append(t.Refused, w)
		} else {
			t.Works = append(t.Works, w)
		}
	}
	goes := map[machine.Key]bool{}
	for _, w := range retire {
		goes[w.Key] = true
	}
	t.Works = append(t.Works, retire...)
	t.do = func(e *run.Engine, ctx, stop context.Context, works []proof.Work) []run.Result {
		var stopped, retired []proof.Work
		for _, w := range works {
			if goes[w.Key] {
				retired = append(retired, w)
			} else {
				stopped = append(stopped, w)
			}
		}
		return append(e.Stop(ctx, stop, stopped), e.Retire(ctx, stop, retired)...)
	}
	return t
}

// SweepQuestion asks before that.
func SweepQuestion(stop, retire int) Question {
	q := Question{Text: fmt.Sprintf("Shut %s down?", finding.Plural(stop, "machine")), Word: "yes"}
	switch {
	case stop == 0:
		q.Text, q.Word = fmt.Sprintf("Retire %s?", finding.Plural(retire, "machine")), wordFor(retire)
	case retire > 0:
		q.Text, q.Word = fmt.Sprintf("Shut %s down, and retire %s?", finding.Plural(stop, "machine"), finding.Plural(retire, "machine")), wordFor(retire)
	}
	return q
}
