// Package run is the engine: it takes the work of a proof and does it, machine
// beside machine, with every step in the journal.
package run

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
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

	// Remove is the one step of a machine that is retired.
	Remove Step = "remove"
)

// ErrStopped means that a machine was not finished because the run was told to
// stop; running the same command again goes on with it.
var ErrStopped = errors.New("stopped before it was finished")

// Engine does the work of one run.
type Engine struct {
	Run      string
	Ledger   *ledger.Ledger
	Sites    map[string]site.Site
	Slots    map[string]int // machines side by side, by site
	Reserved map[machine.Key][]ledger.Reservation
	Sealing  Sealing
	Cooling  map[string]time.Duration // of addresses, by network
	Random   io.Reader
	// TaskLimit bounds one act at a site, ConfirmLimit the wait for a guest's
	// report.
	TaskLimit, ConfirmLimit time.Duration
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
	Err   error
}

// State is what an Event tells of a step, or, without a step, of a machine.
type State string

// The states of an Event.
const (
	Begun    State = "begun"
	Goes     State = "goes" // a task's share has changed
	Done     State = "done"
	Skipped  State = "skipped" // an earlier run did it
	Failed   State = "failed"
	Finished State = "finished" // the machine is done
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

// walk takes a machine to its end and returns the step at which it ended.
type walk func(j *job, ctx, stop context.Context) (Step, error)

// each lets the machines of every site walk side by side.
func (e *Engine) each(ctx, stop context.Context, works []proof.Work, walk walk) []Result {
	stop, enough := context.WithCancelCause(stop)
	defer enough(nil)
	results := make([]Result, len(works))
	queues := map[string][]int{}
	for i, w := range works {
		queues[w.Site] = append(queues[w.Site], i)
	}
	var failures int
	var mu sync.Mutex
	var workers sync.WaitGroup
	for name, queue := range queues {
		next := make(chan int, len(queue))
		for _, i := range queue {
			next <- i
		}
		close(next)
		for range min(max(e.Slots[name], 1), len(queue)) {
			workers.Go(func() {
				for i := range next {
					results[i] = e.one(ctx, stop, works[i], walk)
					if results[i].Err == nil || errors.Is(results[i].Err, ErrStopped) {
						continue
					}
					mu.Lock()
					failures++
					if errors.Is(results[i].Err, ledger.ErrLedger) {
						enough(results[i].Err) // nothing may be done that cannot be written down
					}
					if e.StopAfter > 0 && failures >= e.StopAfter {
						enough(fmt.Errorf("%d machines failed", failures))
					}
					mu.Unlock()
				}
			})
		}
	}
	workers.Wait()
	return results
}

// one takes a machine through its walk and tells how that ended.
func (e *Engine) one(ctx, stop context.Context, w proof.Work, walk walk) Result {
	began := time.Now()
	j := &job{Engine: e, work: w, site: e.Sites[w.Site]}
	step, err := walk(j, ctx, stop)
	switch {
	case err == nil:
		e.tell(Event{Key: w.Key, State: Finished})
	case !errors.Is(err, ErrStopped):
		e.tell(Event{Key: w.Key, Step: step, State: Failed, Err: err})
	}
	return Result{Work: w, Step: step, Err: err, Took: time.Since(began)}
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

// steps walks the chain and returns the step at which it ended.
func (j *job) steps(ctx, stop context.Context) (Step, error) {
	if stopped(stop) {
		return "", ErrStopped
	}
	// What is in the journal must get there even while the run is told to leave.
	durable := context.WithoutCancel(ctx)
	past, err := j.Ledger.Steps(ctx, j.work.Key, j.work.Generation)
	if err != nil {
		return "", err
	}
	for _, s := range j.chain() {
		if stopped(stop) || ctx.Err() != nil {
			return s.name, ErrStopped
		}
		entry := ledger.Step{Key: j.work.Key, Generation: j.work.Generation, Step: string(s.name), Input: machine.Digest(s.input), Run: j.Run}
		if p, ok := past[entry.Step]; ok && p.State == ledger.Done && p.Input == entry.Input {
			j.tell(Event{Key: j.work.Key, Step: s.name, State: Skipped})
			continue
		}
		j.at(j.work.Key, s.name, "before")
		entry.State = ledger.Begun
		if err := j.Ledger.Journal(durable, entry); err != nil {
			return s.name, err
		}
		j.at(j.work.Key, s.name, "begun")
		j.tell(Event{Key: j.work.Key, Step: s.name, State: Begun})
		if err := s.do(ctx, stop); err != nil {
			if ctx.Err() != nil || errors.Is(err, ErrStopped) {
				return s.name, ErrStopped // the journal keeps the step as begun
			}
			if errors.Is(err, ledger.ErrLedger) {
				return s.name, err
			}
			entry.State, entry.Error = ledger.Failed, err.Error()
			return s.name, errors.Join(err, j.Ledger.Journal(durable, entry))
		}
		j.at(j.work.Key, s.name, "acted")
		entry.State = ledger.Done
		if err := j.Ledger.Journal(durable, entry); err != nil {
			return s.name, err
		}
		j.at(j.work.Key, s.name, "ended")
		j.tell(Event{Key: j.work.Key, Step: s.name, State: Done})
	}
	return "", j.Ledger.Finish(durable, j.Run, *j.work.Machine)
}

func stopped(stop context.Context) bool { return stop.Err() != nil }
