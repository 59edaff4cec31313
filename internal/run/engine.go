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

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/ledger"
	"mintbatch/internal/site"
)

// Step is one act on one machine.
type Step string

// The steps, in the order in which a new machine goes through them.
const (
	Reserve    Step = "reserve"
	Clone      Step = "clone"
	Shape      Step = "shape"
	Wire       Step = "wire"
	Seed       Step = "seed"
	Checkpoint Step = "checkpoint"
	Record     Step = "record"
	Start      Step = "start"
	Confirm    Step = "confirm"

	// Remove is the one step of a machine that is retired, and Halt that of one
	// whose date is over.
	Remove Step = "remove"
	Halt   Step = "stop"
)

// ErrStopped means that a machine was not finished because the run was told to
// stop; running the same command again goes on with it.
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
	Disks survey.Disks
	// Times bound the acts of each kind at a site; that of Waiting is the wait
	// for a guest's report.
	Times map[Act]time.Duration
	// Expect tells about how long the making of a machine will take; nil if
	// nothing is known. The longest are begun first.
	Expect func(proof.Work) time.Duration
	// StopAfter ends the run after so many failed machines; 0 means never.
	StopAfter int
	// Watch is told every event, from several goroutines at once.
	Watch func(Event)
	// Boundary, if set, is called at every boundary of every step. It lets
	// tests end the process exactly there.
	Boundary func(Boundary)
}

// Boundary is a moment at the edge of a step: `before` anything, `begun` once
// the journal has it, `acted` once the site has done it, `ended` once the
// journal has that too.
type Boundary struct {
	machine.Key
	Step   Step
	Moment string
}

// Event tells what becomes of a machine.
type Event struct {
	machine.Key
	Step  Step
	State State
	Share float64 // of a task, from 0 to 1
	// Earlier is the run that had begun the step and did not live to end it: what
	// it asked the site for is looked up by its identity and gone on with.
	Earlier string
	Err     error
}

// State is what an Event tells of a step, or, without a step, of a machine.
type State string

// The states of an Event.
const (
	Begun    State = "begun"
	Goes     State = "goes"  // a task's share has changed
	Waits    State = "waits" // the machine waits for a spot to go on
	Done     State = "done"
	Skipped  State = "skipped" // an earlier run did it
	Failed   State = "failed"
	Finished State = "finished" // the machine is done
	Removed  State = "removed"  // a clone of an earlier generation is
	Stopped  State = "stopped"  // the run was told to stop before it was
)

// Result is what became of one machine. A nil Err means that it is as asked.
type Result struct {
	proof.Work
	Step Step // at which it failed
	Err  error
	Took time.Duration
}

// Do does the works and returns a result for each, in their order. One failing
// machine never stops the others. When stop ends, acts that are under way are
// brought to their end and no others begun; when ctx ends, everything is left
// where it is.
func (e *Engine) Do(ctx, stop context.Context, works []proof.Work) []Result {
	return e.each(ctx, stop, works, (*job).steps)
}

// Retire takes machines down at their sites and out of the ledger, in the same
// manner as Do. What the site does not know as this ledger's is refused.
func (e *Engine) Retire(ctx, stop context.Context, works []proof.Work) []Result {
	return e.each(ctx, stop, works, (*job).retire)
}

// Stop shuts machines down, in the same manner as Do.
func (e *Engine) Stop(ctx, stop context.Context, works []proof.Work) []Result {
	return e.each(ctx, stop, works, (*job).halt)
}

// walk takes a machine on its way for as long as it needs no other spot. It
// returns the step at which it ended, and the act that it needs next; none if it
// has come to its end.
type walk func(j *job, ctx, stop context.Context) (Step, Act, error)

// each lets the machines walk side by side, each as its spots become free.
func (e *Engine) each(ctx, stop context.Context, works []proof.Work, walk walk) []Result {
	stop, enough := context.WithCancelCause(stop)
	defer enough(nil)
	results := make([]Result, len(works))
	jobs := make([]*job, len(works)) // of those that were begun and are not at their end
	line := newSchedule(e.Limits)
	for i, w := range works {
		act, err := e.firstAct(ctx, w)
		if err != nil {
			results[i] = Result{Work: w, Err: err}
			enough(err)
			continue
		}
		line.add(e.spot(w, act), waiter{index: i, expected: e.expected(w)})
	}
	type arrival struct {
		index int
		at    spot
		step  Step
		next  Act
		err   error
	}
	arrivals := make(chan arrival)
	failures := 0
	for under := 0; ; under-- {
		for !stopped(stop) {
			at, w, ok := line.next()
			if !ok {
				break
			}
			j := jobs[w.index]
			if j == nil {
				j = &job{Engine: e, work: works[w.index], site: e.Sites[works[w.index].Site], began: time.Now()}
				jobs[w.index] = j
			}
			under++
			go func() {
				step, next, err := walk(j, ctx, stop)
				arrivals <- arrival{w.index, at, step, next, err}
			}()
		}
		if under == 0 {
			break
		}
		a := <-arrivals
		line.leave(a.at)
		j := jobs[a.index]
		if a.err == nil && a.next != "" {
			e.tell(Event{Key: j.work.Key, Step: a.step, State: Waits})
			line.add(e.spot(j.work, a.next), waiter{index: a.index, under: true})
			continue
		}
		jobs[a.index] = nil
		results[a.index] = Result{Work: j.work, Step: a.step, Err: a.err, Took: time.Since(j.began)}
		switch {
		case a.err == nil:
			e.tell(Event{Key: j.work.Key, State: Finished})
			continue
		case errors.Is(a.err, ErrStopped):
			e.tell(Event{Key: j.work.Key, Step: a.step, State: Stopped})
			continue
		}
		e.tell(Event{Key: j.work.Key, Step: a.step, State: Failed, Err: a.err})
		failures++
		if errors.Is(a.err, ledger.ErrLedger) {
			enough(a.err) // nothing may be done that cannot be written down
		}
		if e.StopAfter > 0 && failures >= e.StopAfter {
			enough(fmt.Errorf("%d machines failed", failures))
		}
	}
	for _, w := range line.rest() {
		results[w.index] = Result{Work: works[w.index], Err: ErrStopped}
		if jobs[w.index] != nil {
			e.tell(Event{Key: works[w.index].Key, State: Stopped})
		}
	}
	return results
}

// spot is where a machine's next act takes place, as far as that is known.
func (e *Engine) spot(w proof.Work, act Act) spot {
	at := spot{site: w.Site, act: act}
	switch {
	case w.Place != nil:
		at.host, at.store = w.Place.Host, w.Place.Store
	case w.Machine != nil:
		at.host, at.store = w.Machine.Clone.Host, w.Machine.Clone.Store
	}
	return at
}

func (e *Engine) expected(w proof.Work) time.Duration {
	if e.Expect == nil {
		return 0
	}
	return e.Expect(w)
}

func (e *Engine) tell(ev Event) {
	if e.Watch != nil {
		e.Watch(ev)
	}
}

func (e *Engine) at(key machine.Key, step Step, moment string) {
	if e.Boundary != nil {
		e.Boundary(Boundary{key, step, moment})
	}
}

// firstAct is the act that a machine needs first: not a copy that an earlier run
// has made.
func (e *Engine) firstAct(ctx context.Context, w proof.Work) (Act, error) {
	j := &job{Engine: e, work: w, site: e.Sites[w.Site]}
	if !w.Begun {
		return j.actOf(Reserve), nil
	}
	if err := j.look(ctx); err != nil {
		return "", err
	}
	for _, s := range j.chain() {
		if !j.wasDone(s) {
			return j.actOf(s.name), nil
		}
	}
	return Work, nil
}

// actOf is the kind of act that a step is. What is reserved is cloned next.
func (j *job) actOf(name Step) Act {
	clones := j.work.Word == proof.New || j.work.Word == proof.Remake
	switch {
	case (name == Reserve || name == Clone) && clones && j.work.Machine.Clone.Kind == machine.Full:
		return Copy
	case name == Start:
		return Boot
	case name == Confirm:
		return Waiting
	}
	return Work
}

// look reads what earlier runs have done.
func (j *job) look(ctx context.Context) (err error) {
	switch {
	case j.past != nil:
	case !j.work.Begun && j.work.Word != proof.Adjust: // there is none of this generation
		j.past = map[string]ledger.Step{}
	default:
		j.past, err = j.Ledger.Steps(ctx, j.work.Key, j.work.Generation)
	}
	return err
}

func (j *job) wasDone(s step) bool {
	p, ok := j.past[string(s.name)]
	return ok && !j.work.Again && p.State == ledger.Done && p.Input == machine.Digest(s.input)
}

// steps walks the chain up to where another kind of act begins.
func (j *job) steps(ctx, stop context.Context) (Step, Act, error) {
	if stopped(stop) {
		return "", "", ErrStopped
	}
	if err := j.look(ctx); err != nil {
		return "", "", err
	}
	var act Act // that there is a spot for
	last := Step("")
	for _, s := range j.chain()[j.gone:] {
		if j.Unstarted && (s.name == Start || s.name == Seed && j.work.Machine.Guest.InClear()) {
			return "", "", nil
		}
		if stopped(stop) || ctx.Err() != nil {
			return s.name, "", ErrStopped
		}
		if j.wasDone(s) {
			j.gone++
			j.tell(Event{Key: j.work.Key, Step: s.name, State: Skipped})
			continue
		}
		switch needs := j.actOf(s.name); {
		case act == "":
			act = needs
		case act != needs:
			return last, needs, nil
		}
		if err := j.take(ctx, stop, s); err != nil {
			return s.name, "", err
		}
		j.gone++
		last = s.name
	}
	return "", "", j.Ledger.Finish(context.WithoutCancel(ctx), j.Run, *j.work.Machine)
}

// take takes one step, with the journal before and after it.
func (j *job) take(ctx, stop context.Context, s step) error {
	// What is in the journal must get there even while the run is told to leave.
	durable := context.WithoutCancel(ctx)
	entry := ledger.Step{Key: j.work.Key, Generation: j.work.Generation, Step: string(s.name), Input: machine.Digest(s.input), Run: j.Run, State: ledger.Begun}
	j.at(j.work.Key, s.name, "before")
	if err := j.Ledger.Journal(durable, entry); err != nil {
		return err
	}
	j.at(j.work.Key, s.name, "begun")
	begun := Event{Key: j.work.Key, Step: s.name, State: Begun}
	if p := j.past[string(s.name)]; p.State == ledger.Begun {
		begun.Earlier = p.Run
	}
	j.tell(begun)
	if err := s.do(ctx, stop); err != nil {
		if ctx.Err() != nil || errors.Is(err, ErrStopped) {
			return ErrStopped // the journal keeps the step as begun
		}
		if errors.Is(err, ledger.ErrLedger) {
			return err
		}
		entry.State, entry.Error = ledger.Failed, err.Error()
		return errors.Join(err, j.Ledger.Journal(durable, entry))
	}
	j.at(j.work.Key, s.name, "acted")
	entry.State = ledger.Done
	if err := j.Ledger.Journal(durable, entry); err != nil {
		return err
	}
	j.at(j.work.Key, s.name, "ended")
	j.tell(Event{Key: j.work.Key, Step: s.name, State: Done})
	return nil
}

func stopped(stop context.Context) bool { return stop.Err() != nil }
