package run

import (
	"math"
	"slices"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
)

// Pace estimates how long a step of a machine takes.
type Pace func(w proof.Work, name step.Name) time.Duration

// Estimate reports about how long a run on some works will take: it goes through
// the schedule by a clock of its own.
func Estimate(works []proof.Work, limits map[string]Limits, pace Pace, gates *Gates) time.Duration {
	e := Engine{Limits: limits, Gates: gates, Expect: func(w proof.Work) time.Duration { return pace(w, step.Clone) }, Least: pace}
	return e.estimate(works, e.expected(works))
}

// expected is what is before each machine, and before those that come after it. How much
// these count for decides what is copied first: a short copy that many wait for may be better
// begun before a long one that nobody waits for (see TestMakespan). The best of some weights
// is taken.
func (e *Engine) expected(works []proof.Work) []time.Duration {
	own := make([]time.Duration, len(works))
	if e.Expect != nil {
		for i, w := range works {
			own[i] = e.Expect(w)
		}
	}
	if e.Least == nil || e.Gates == nil || len(e.Gates.Groups) == 0 {
		return own
	}
	behind := e.Gates.behind(works, func(w proof.Work) time.Duration { return e.Least(w, step.Start) + e.Least(w, step.Confirm) })
	var best []time.Duration
	least := time.Duration(math.MaxInt64)
	for _, weight := range []float64{2, 1, 1.5, 2.5, 3, 4} {
		all := slices.Clone(own)
		for i, d := range behind {
			all[i] += time.Duration(weight * float64(d))
		}
		if takes := e.estimate(works, all); takes < least {
			best, least = all, takes
		}
	}
	return best
}

// estimate goes through the schedule in the order of what is expected.
func (e *Engine) estimate(works []proof.Work, expected []time.Duration) time.Duration {
	gates := e.Gates.again()
	pace := func(w proof.Work, name step.Name) time.Duration {
		switch {
		case name == step.Clone && e.Expect != nil:
			return e.Expect(w)
		case name != step.Clone && e.Least != nil:
			return e.Least(w, name)
		}
		return 0
	}
	line := newSchedule(e.Limits)
	parts := make([][]part, len(works))
	var parked []int
	var goOn func(i int, under bool)
	goOn = func(i int, under bool) {
		key := works[i].Key
		if len(parts[i]) > 0 && parts[i][0].slot == Starting {
			switch open, err := gates.pass(key); {
			case err != nil:
				parts[i] = nil
			case !open:
				parked = append(parked, i)
				return
			}
		}
		if len(parts[i]) > 0 {
			line.add(e.demand(works[i], parts[i][0].slot), waiter{index: i, under: under, expected: expected[i]})
			return
		}
		if gates.ended(key, nil) {
			again := parked
			parked = nil
			for _, p := range again {
				goOn(p, true)
			}
		}
	}
	for i, w := range works {
		parts[i] = partsOf(w, pace)
		goOn(i, false)
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
		parts[next.index] = parts[next.index][1:]
		goOn(next.index, true)
	}
}

// part is a stretch of a machine's chain that needs one kind of slot.
type part struct {
	slot  Slot
	takes time.Duration
}

func partsOf(w proof.Work, pace Pace) []part {
	if w.Slim == nil {
		return nil
	}
	var all []part
	rest := pace(w, step.Shape) + pace(w, step.Wire) + pace(w, step.Seed) + pace(w, step.Checkpoint) + pace(w, step.Record)
	if w.Word != proof.Adjust {
		all = append(all, part{(&job{work: w}).slotOf(step.Clone), pace(w, step.Clone)})
	}
	all = append(all, part{AnyStep, rest})
	if w.Machine().Power.Starts() && (w.Word != proof.Adjust || w.Machine().Power.Rests() == machine.On) {
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
