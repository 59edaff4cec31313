package run

import (
	"container/heap"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
)

// Pace tells about how long a step of a machine takes.
type Pace func(w proof.Work, step Step) time.Duration

// Estimate tells about how long a run on some works will take: it goes through
// the schedule by a clock of its own.
func Estimate(works []proof.Work, limits map[string]Limits, pace Pace) time.Duration {
	e := Engine{Limits: limits}
	line := newSchedule(limits)
	parts := make([][]part, len(works))
	for i, w := range works {
		parts[i] = partsOf(w, pace)
		if len(parts[i]) > 0 {
			line.add(e.spot(w, parts[i][0].act), waiter{index: i, expected: pace(w, Clone)})
		}
	}
	var now time.Duration
	var ends ends
	for {
		for {
			at, w, ok := line.next()
			if !ok {
				break
			}
			heap.Push(&ends, end{now + parts[w.index][0].takes, at, w.index})
		}
		if len(ends) == 0 {
			return now
		}
		next := heap.Pop(&ends).(end)
		now = next.when
		line.leave(next.at)
		if parts[next.index] = parts[next.index][1:]; len(parts[next.index]) > 0 {
			line.add(e.spot(works[next.index], parts[next.index][0].act), waiter{index: next.index, under: true})
		}
	}
}

// part is a stretch of a machine's way that needs one kind of spot.
type part struct {
	act   Act
	takes time.Duration
}

func partsOf(w proof.Work, pace Pace) []part {
	if w.Machine == nil {
		return nil
	}
	var all []part
	rest := pace(w, Shape) + pace(w, Wire) + pace(w, Seed) + pace(w, Checkpoint) + pace(w, Record)
	if w.Word != proof.Adjust {
		all = append(all, part{(&job{work: w}).actOf(Clone), pace(w, Clone)})
	}
	all = append(all, part{Work, rest})
	if w.Machine.Power.Starts() && (w.Word != proof.Adjust || w.Machine.Power.Rests() == machine.On) {
		all = append(all, part{Boot, pace(w, Start)}, part{Waiting, pace(w, Confirm)})
	}
	return all
}

// end is when a machine leaves its spot.
type end struct {
	when  time.Duration
	at    spot
	index int
}

type ends []end

func (e ends) Len() int           { return len(e) }
func (e ends) Less(i, j int) bool { return e[i].when < e[j].when }
func (e ends) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *ends) Push(v any)        { *e = append(*e, v.(end)) }
func (e *ends) Pop() any {
	last := (*e)[len(*e)-1]
	*e = (*e)[:len(*e)-1]
	return last
}
