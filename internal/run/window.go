package run

import (
	"slices"
	"time"
)

// lookAgain is how often the clock is looked at: it may be set, or the computer sleep.
const lookAgain = 30 * time.Second

// window lets the machines go that wait for the restart window while it is open, and ends those
// that have waited when it closes. It returns when to look again; nil if nobody waits.
func (r *round) window() <-chan time.Time {
	if len(r.late) == 0 {
		return nil
	}
	open, until := r.Window.Open(time.Now())
	switch {
	case !open && r.inWindow:
		r.inWindow = false
		late := r.late
		r.late = nil
		for _, i := range late {
			w := r.works[i]
			err := &HeldBack{"the restart window " + r.Window.String() + ", which is over"}
			r.results[i] = Result{Work: w, Err: err}
			r.report(Event{Key: w.Key, State: Held, Err: err})
			r.Gates.ended(w.Key, err)
		}
		r.unpark()
		return nil
	case open:
		r.inWindow = true
	}
	return time.After(min(time.Until(until), lookAgain))
}

// admit lets the first of those into the line that wait for the window, if it can be begun
// now: none is to stand in line until the window is over.
func (r *round) admit() {
	for k, i := range r.late {
		d := r.demand(r.works[i], AnyStep)
		if r.inWindow && r.line.free(d) && !r.line.waiting(d) {
			r.late = slices.Delete(r.late, k, k+1)
			r.wait(i, AnyStep, false)
			return
		}
	}
}
