// Package run is the engine: it takes the work of a proof and does it, machine
// beside machine, with every step in the journal.
package run

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/request"
	"mintbatch/internal/core/step"
	"mintbatch/internal/core/window"
	"mintbatch/internal/ledger"
	"mintbatch/internal/site"
)

// ErrStopped means that a machine was not finished because the run was told to
// stop; running the same command again continues with it.
var ErrStopped = errors.New("stopped before it was finished")

// Engine does the work of one run.
type Engine struct {
	Run      string
	Ledger   Durable
	Owner    uuid.UUID // the ledger's id, by which machines at the sites are its own
	Sites    map[string]site.Site
	Limits   map[string]Limits // by site
	Reserved map[machine.Key][]ledger.Reservation
	Sealing  Sealing
	Cooling  map[string]time.Duration // of addresses, by network
	Random   io.Reader
	// Unstarted leaves machines right before their first start.
	Unstarted bool
	// ForceOff cuts the power of a guest that does not shut down when that is needed.
	ForceOff bool
	// Disks says what becomes of those of machines that are retired.
	Disks contract.Disks
	// Times bound the acts of each kind at a site; that of Confirming is the wait
	// for a guest's report.
	Times map[Slot]time.Duration
	// Expect reports about how long the making of a machine will take; nil if
	// nothing is known. The longest are begun first.
	Expect func(proof.Work) time.Duration
	// Least reports about how long a step of a machine takes at least; nil if nothing is
	// known. A site is not asked about its task before.
	Least Pace
	// Window is when changes may be begun that restart a machine.
	Window window.Window
	// Home is where guests report that call by themselves.
	Home string
	// Requested are the machines that requests have asked for, which their marks say.
	Requested request.Has
	// Around are the systems around the machines.
	Around Around
	// Checkpoint is the one that is kept, restored or dropped.
	Checkpoint machine.Checkpoint
	// NewName is that of a machine that is renamed.
	NewName string
	// Gates say which machines wait for which others; nil if none does.
	Gates *Gates
	// StopAfter ends the run after so many failed machines; 0 means never.
	StopAfter int
	// Watch gets every event, from several goroutines at once.
	Watch func(Event)
	// Boundary, if set, is called at every boundary of every step. It lets
	// tests end the process exactly there.
	Boundary func(Boundary)

	durations durations
}

// Boundary is a moment at the edge of a step: `before` anything, `begun` once
// the journal has it, `acted` once the site has done it, `ended` once the
// journal has that too, and `closed`, of the last step, once the ledger has the outcome.
type Boundary struct {
	machine.Key
	Step   step.Name
	Moment string
}

// Event reports what becomes of a machine.
type Event struct {
	machine.Key
	Step  step.Name
	State State
	Share float64 // of a task, from 0 to 1
	// Earlier is the run that had begun the step and did not live to end it: what
	// it asked the site for is looked up by its identity and gone on with.
	Earlier string
	Err     error
	Stage   *contract.StageReport // of a guest
}

// State is the state of an Event's step, or, without a step, of its machine.
type State string

// The states of an Event.
const (
	Begun    State = "begun"
	Progress State = "progress" // a task's share has changed
	Waiting  State = "waiting"  // the machine waits for a slot
	Done     State = "done"
	Skipped  State = "skipped" // an earlier run did it
	Failed   State = "failed"
	Finished State = "finished"  // the machine is done
	Removed  State = "removed"   // a clone of an earlier generation is
	Stopped  State = "stopped"   // the run was told to stop before it was
	InStage  State = "stage"     // the guest has begun a stage, or come to its end
	Held     State = "held back" // another that has to come before it has come to no good end
)

// Result is what became of one machine. A nil Err means that it is as asked.
type Result struct {
	proof.Work
	Step step.Name // at which it failed
	Err  error
	Took time.Duration
}

// Mint does the works and returns a result for each, in their order. One failing
// machine never stops the others. When stop ends, acts that are under way are
// brought to their end and no others begun; when ctx ends, everything is left
// where it is.
func (e *Engine) Mint(ctx, stop context.Context, works []proof.Work) []Result {
	return e.runAll(ctx, stop, works, path{mintChain, true})
}

// Retire deletes machines at their sites and from the ledger, in the same manner as
// Mint. What the site does not know as this ledger's is refused.
func (e *Engine) Retire(ctx, stop context.Context, works []proof.Work) []Result {
	return e.runAll(ctx, stop, works, path{retireChain, false})
}

// Stop shuts machines down, in the same manner as Mint.
func (e *Engine) Stop(ctx, stop context.Context, works []proof.Work) []Result {
	return e.runAll(ctx, stop, works, path{stopChain, false})
}

// Accept records, in the same manner as Mint, what was changed in guests: ledger and
// mark say from then on what the works do. Nothing else is changed.
func (e *Engine) Accept(ctx, stop context.Context, works []proof.Work) []Result {
	return e.runAll(ctx, stop, works, path{acceptChain, false})
}

// runAll lets the machines advance in parallel, each as slots become free.
func (e *Engine) runAll(ctx, stop context.Context, works []proof.Work, c path) []Result {
	stop, enough := context.WithCancelCause(stop)
	defer enough(nil)
	r := &round{Engine: e, works: works, line: newSchedule(e.Limits), jobs: make([]*job, len(works)), results: make([]Result, len(works)), enough: enough}
	r.expected = e.expected(works)
	for i, w := range works {
		if !e.Window.IsZero() && w.Restarts() {
			r.late = append(r.late, i)
			continue
		}
		slot, err := e.firstSlot(ctx, w, c)
		if err != nil {
			r.results[i] = Result{Work: w, Err: err}
			e.Gates.ended(w.Key, err)
			enough(err)
			continue
		}
		r.wait(i, slot, false)
	}
	arrivals := make(chan arrival)
	for under := 0; ; under-- {
		opens := r.window()
		for !stopped(stop) {
			r.admit()
			at, w, ok := r.line.next()
			if !ok {
				break
			}
			j := r.jobs[w.index]
			if j == nil {
				j = &job{Engine: e, course: c, work: works[w.index], site: e.Sites[works[w.index].Site], began: time.Now()}
				r.jobs[w.index] = j
			}
			under++
			go func() {
				last, next, err := j.advance(ctx, stop)
				arrivals <- arrival{w.index, at, last, next, err}
			}()
		}
		if under == 0 && !stopped(stop) && len(r.late) == 0 && r.force() {
			under++ // which the loop takes back
			continue
		}
		if under == 0 && (stopped(stop) || len(r.late) == 0) {
			break
		}
		left := stop.Done() // if nothing else is waited for
		if under > 0 {
			left = nil
		}
		select {
		case a := <-arrivals:
			r.arrive(a)
		case <-opens:
			under++
		case <-left:
			under++
		}
	}
	r.leave()
	return r.results
}

// round is the state of runAll.
type round struct {
	*Engine
	works    []proof.Work
	expected []time.Duration
	line     *schedule
	jobs     []*job    // of those that were begun and are not at their end
	parked   []arrival // before their gates
	late     []int     // before the restart window
	inWindow bool      // the window is open
	results  []Result
	failures int
	enough   context.CancelCauseFunc
}

// arrival is a machine that has come to its end, or to where it needs another slot.
type arrival struct {
	index int
	at    demand
	step  step.Name
	next  Slot
	err   error
}

func (r *round) wait(i int, slot Slot, under bool) {
	r.line.add(r.demand(r.works[i], slot), waiter{index: i, under: under, expected: r.expected[i]})
}

func (r *round) arrive(a arrival) {
	r.line.release(a.at)
	if a.err != nil || a.next == "" {
		r.end(a)
		return
	}
	j := r.jobs[a.index]
	if a.next != Brief {
		r.report(Event{Key: j.work.Key, Step: a.step, State: Waiting})
	}
	if !j.gated {
		r.wait(a.index, a.next, true)
	} else if r.gate(a) {
		r.unpark()
	}
}

// gate lets a machine go on if its gate is open, ends it if that never will be, and else
// parks it. It reports whether other gates have moved.
func (r *round) gate(a arrival) (moved bool) {
	switch open, err := r.Gates.pass(r.works[a.index].Key); {
	case err != nil:
		a.err, a.step = err, ""
		return r.finish(a)
	case open:
		r.open(a)
	default:
		r.parked = append(r.parked, a)
	}
	return false
}

func (r *round) open(a arrival) {
	j := r.jobs[a.index]
	j.gated, j.passed = false, true
	r.wait(a.index, a.next, true)
}

// unpark lets those go on whose gates are open, and ends those whose gates never will be.
func (r *round) unpark() {
	for moved := true; moved; {
		moved = false
		parked := r.parked
		r.parked = nil
		for _, a := range parked {
			moved = r.gate(a) || moved
		}
	}
}

// force lets the first of those go on that wait for each other, as a ledger may have it whose
// rows were changed one by one. It reports whether there was one.
func (r *round) force() bool {
	if len(r.parked) == 0 {
		return false
	}
	first := r.parked[0]
	r.parked = r.parked[1:]
	r.open(first)
	return true
}

// end takes note of a machine's end, and lets those go on that waited for it.
func (r *round) end(a arrival) {
	if r.finish(a) {
		r.unpark()
	}
}

// finish takes note of a machine's end. It reports whether gates have moved.
func (r *round) finish(a arrival) bool {
	j := r.jobs[a.index]
	r.jobs[a.index] = nil
	r.results[a.index] = Result{Work: j.work, Step: a.step, Err: a.err, Took: time.Since(j.began)}
	ev := Event{Key: j.work.Key, Step: a.step, Err: a.err}
	var held *HeldBack
	switch {
	case a.err == nil:
		ev.State, ev.Step = Finished, ""
	case errors.Is(a.err, ErrStopped):
		ev.State, ev.Err = Stopped, nil
	case errors.As(a.err, &held):
		ev.State = Held
	default:
		ev.State = Failed
		r.failures++
	}
	r.report(ev)
	if ev.State == Failed && !errors.Is(a.err, ledger.ErrLedger) {
		j.tellFailure(ev)
	}
	switch {
	case ev.State != Failed:
	case errors.Is(a.err, ledger.ErrLedger):
		r.enough(a.err) // nothing may be done that cannot be written down
	case r.StopAfter > 0 && r.failures >= r.StopAfter:
		r.enough(fmt.Errorf("%d machines failed", r.failures))
	}
	return r.Gates.ended(j.work.Key, a.err)
}

// leave ends what still waits when nothing goes on any more.
func (r *round) leave() {
	for _, w := range r.line.rest() {
		r.stop(w.index)
	}
	for _, a := range r.parked {
		r.stop(a.index)
	}
	for _, i := range r.late {
		r.stop(i)
	}
}

// stop takes note of a machine that the run was told to leave.
func (r *round) stop(i int) {
	w := r.works[i]
	r.results[i] = Result{Work: w, Err: ErrStopped}
	r.Gates.ended(w.Key, ErrStopped)
	if r.jobs[i] != nil {
		r.report(Event{Key: w.Key, State: Stopped})
	}
}

// demand is what a machine's next step needs, as far as its place is known.
func (e *Engine) demand(w proof.Work, slot Slot) demand {
	at := demand{site: w.Site, slot: slot}
	switch {
	case w.Place != nil:
		at.host, at.store = w.Place.Host, w.Place.Store
	case w.Slim != nil:
		at.host, at.store = w.Machine().Clone.Host, w.Machine().Clone.Store
	}
	return at
}

func (e *Engine) report(ev Event) {
	if e.Watch != nil {
		e.Watch(ev)
	}
}

func (e *Engine) reachBoundary(key machine.Key, name step.Name, moment string) {
	if e.Boundary != nil {
		e.Boundary(Boundary{key, name, moment})
	}
}

// firstSlot is what a machine needs first: not that of a copy that an earlier run has
// made.
func (e *Engine) firstSlot(ctx context.Context, w proof.Work, c path) (Slot, error) {
	j := &job{Engine: e, course: c, work: w, site: e.Sites[w.Site]}
	if !w.Begun {
		return j.slotOf(step.Reserve), nil
	}
	if err := j.loadJournal(ctx); err != nil {
		return "", err
	}
	for _, a := range c.plan(j).steps {
		if !j.wasDone(a) {
			return j.slotOf(a.name), nil
		}
	}
	return AnyStep, nil
}

// slotOf is the kind of slot that a step needs. What is reserved is cloned next.
func (j *job) slotOf(name step.Name) Slot {
	clones := j.work.Word == proof.New || j.work.Word == proof.Remake
	switch {
	case (name == step.Reserve || name == step.Enrol || name == step.Clone) && clones && j.work.Machine().Clone.Kind == machine.Full:
		return FullClone
	case name == step.Detach, name == step.Carry:
		return FullClone // it copies as much
	case name == step.Start:
		return Starting
	case name == step.Confirm, name == step.Await:
		return Confirming
	case clones && (name == step.Wire || name == step.Seed || name == step.Record), clones && name == step.Shape && j.work.Machine().Shape.Disk == 0 && len(j.work.Machine().Shape.Disks) == 0:
		return Brief
	}
	return AnyStep
}

func stopped(stop context.Context) bool { return stop.Err() != nil }
