package run

import (
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
)

// Pace estimates how long a step of a machine takes.
type Pace func(w proof.Work, name step.Name) time.Duration

// Estimate reports about how long a run on some works will take: it goes through
// the schedule by a clock of its own.
func Estimate(works []proof.Work, limits map[string]Limits, pace Pace) time.Duration {
	e := Engine{Limits: limits}
	line := newSchedule(limits)
	parts := make([][]part, len(works))
	for i, w := range works {
		parts[i] = partsOf(w, pace)
		if len(parts[i]) > 0 {
			line.add(e.demand(w, parts[i][0].slot), waiter{index: i, expected: pace(w, step.Clone)})
		}
	}
	var now time.Duration
	ends := queue[end]{before: func(a, b end) bool { return a.when < b.when }}
	for {
		for {
			d, w, ok := line.next()
			if !ok {
				break
			}
			ends.push(end{now + parts[w.index][0].takes, d, w.index})
		}
		if ends.Len() == 0 {
			return now
		}
		next := ends.pop()
		now = next.when
		line.release(next.demand)
		if parts[next.index] = parts[next.index][1:]; len(parts[next.index]) > 0 {
			line.add(e.demand(works[next.index], parts[next.index][0].slot), waiter{index: next.index, under: true})
		}
	}
}

// part is a stretch of a machine's chain that needs one kind of slot.
type part struct {
	slot  Slot
	takes time.Duration
}

func partsOf(w proof.Work, pace Pace) []part {
	if w.Machine == nil {
		return nil
	}
	var all []part
	rest := pace(w, step.Shape) + pace(w, step.Wire) + pace(w, step.Seed) + pace(w, step.Checkpoint) + pace(w, step.Record)
	if w.Word != proof.Adjust {
		all = append(all, part{(&job{work: w}).slotOf(step.Clone), pace(w, step.Clone)})
	}
	all = append(all, part{AnyStep, rest})
	if w.Machine.Power.Starts() && (w.Word != proof.Adjust || w.Machine.Power.Rests() == machine.On) {
		all = append(all, part{Starting, pace(w, step.Start)}, part{Confirming, pace(w, step.Confirm)})
	}
	return all
}

// end is when a machine gives its slots back.
type end struct {
	when   time.Duration
	demand demand
	index  int
}
