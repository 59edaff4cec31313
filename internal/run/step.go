package run

import (
	"context"
	"errors"
	"sync"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/step"
	"mintbatch/internal/ledger"
	"mintbatch/internal/site"
)

// act is a step of a machine's chain.
type act struct {
	name step.Name
	// input is all that decides what the step does; while it is the same, a step that was
	// done is not done again.
	input any
	do    func(ctx, stop context.Context) error
	// begins is of the step by which a generation begins: before it there is nothing
	// that the journal could be of.
	begins bool
	// ends is of a step that the end of the chain closes in the journal: until then, and
	// whatever becomes of it, it stays open, unless the site has refused it.
	ends bool
	// undone is what the history says of a step that failed and may have been done in part: in the journal it stays begun, unless the site has
	// refused it. Empty is a step that is just done again.
	undone string
	// unless reports, right before the step, that it is not needed; nil if it always is.
	unless func(ctx context.Context) (bool, error)
	// beside is set if the step may be done while the one before it is, at a site that allows
	// that.
	beside bool
	// gated is set if the machine waits before the step for those that come before it.
	gated bool
	// despite reports whether a failure of the step lets the chain go on.
	despite func(err error) bool
}

// chain is all steps of a machine in a run, and what is written down at their end.
type chain struct {
	steps []act
	end   func(ctx context.Context) error
	// fail, if set, writes down a failure.
	fail func(ctx context.Context, err error) error
}

// path is what a run does with each machine.
type path struct {
	// plan makes the chain of a job, before the first of its steps.
	plan func(j *job) chain
	// resumes is set if steps that an earlier run has done are not done again.
	resumes bool
}

// atSite is what a step asks of its site.
type atSite func(ctx context.Context) (contract.Task, error)

// siteAct is a step that is one act at the site.
func (j *job) siteAct(name step.Name, input any, do atSite) act {
	return act{name: name, input: input, do: func(ctx, _ context.Context) error { return j.perform(ctx, name, do) }}
}

// advance takes the chain up to where another kind of slot is needed. It returns the
// step at which it ended, and the slot that is needed next; none at the end of the chain.
func (j *job) advance(ctx, stop context.Context) (step.Name, Slot, error) {
	if stopped(stop) || ctx.Err() != nil {
		return "", "", ErrStopped
	}
	if err := j.loadJournal(ctx); err != nil {
		return "", "", err
	}
	var slot Slot // that the job has
	last := step.Name("")
	if j.chain == nil {
		planned := j.course.plan(j)
		j.chain = &planned
	}
	c := j.chain
	for j.next < len(c.steps) {
		a := c.steps[j.next]
		if stopped(stop) || ctx.Err() != nil {
			return a.name, "", ErrStopped
		}
		if j.wasDone(a) {
			j.next++
			j.report(Event{Key: j.work.Key, Step: a.name, State: Skipped})
			continue
		}
		switch needs := j.slotOf(a.name); {
		case a.gated && !j.passed && j.Gates != nil:
			j.gated = true
			return last, needs, nil
		case slot == "":
			slot = needs
		case slot != needs:
			return last, needs, nil
		}
		together := j.together(c.steps[j.next:])
		if failed, err := j.takeAll(ctx, stop, together); err != nil {
			if c.fail != nil && ctx.Err() == nil && !errors.Is(err, ledger.ErrLedger) && !errors.Is(err, ErrStopped) {
				err = errors.Join(err, c.fail(context.WithoutCancel(ctx), err))
			}
			return failed, "", err
		}
		j.next += len(together)
		last = together[len(together)-1].name
	}
	if err := c.end(context.WithoutCancel(ctx)); err != nil {
		return "", "", err
	}
	if n := len(c.steps); n > 0 {
		j.reachBoundary(j.work.Key, c.steps[n-1].name, "closed")
	}
	return "", "", nil
}

// together returns the first of some steps that can be done at the same time, and need the
// same slot.
func (j *job) together(steps []act) []act {
	if c, ok := j.site.(site.Concurrent); !ok || !c.SideBySide() {
		return steps[:1]
	}
	n := 1
	for n < len(steps) && steps[n].beside && !steps[n].gated && !j.wasDone(steps[n]) && j.slotOf(steps[n].name) == j.slotOf(steps[0].name) {
		n++
	}
	return steps[:n]
}

// takeAll takes steps at the same time, and waits for all of them. It returns the first
// that failed.
func (j *job) takeAll(ctx, stop context.Context, steps []act) (failed step.Name, err error) {
	errs := make([]error, len(steps))
	var others sync.WaitGroup
	for i, a := range steps[1:] {
		others.Go(func() { errs[i+1] = j.take(ctx, stop, a) })
	}
	errs[0] = j.take(ctx, stop, steps[0])
	others.Wait()
	for i, err := range errs {
		if err != nil && (steps[i].despite == nil || !steps[i].despite(err)) {
			return steps[i].name, err
		}
	}
	return "", nil
}

// take takes one step, with the journal before and after it.
func (j *job) take(ctx, stop context.Context, a act) error {
	j.reachBoundary(j.work.Key, a.name, "before")
	if a.unless != nil {
		if skip, err := a.unless(ctx); skip || err != nil {
			return err
		}
	}
	// What is in the journal must get there even while the run is told to leave.
	durable := context.WithoutCancel(ctx)
	entry := ledger.Step{Key: j.work.Key, Generation: j.work.Generation, Step: string(a.name), Input: machine.Digest(a.input), Run: j.Run, State: ledger.Begun}
	if !a.begins {
		if err := j.Ledger.Journal(durable, entry); err != nil {
			return err
		}
	}
	j.reachBoundary(j.work.Key, a.name, "begun")
	begun := Event{Key: j.work.Key, Step: a.name, State: Begun}
	if p := j.past[string(a.name)]; p.State == ledger.Begun {
		begun.Earlier = p.Run
	}
	j.report(begun)
	if err := a.do(ctx, stop); err != nil {
		if ctx.Err() != nil || errors.Is(err, ErrStopped) {
			return ErrStopped // the journal keeps the step as begun
		}
		if errors.Is(err, ledger.ErrLedger) || a.begins || a.ends && !errors.Is(err, site.ErrRefused) {
			return err
		}
		entry.State, entry.Error = ledger.Failed, err.Error()
		if a.undone != "" && !errors.Is(err, site.ErrRefused) {
			return errors.Join(err, j.Ledger.Fail(durable, entry, a.undone))
		}
		return errors.Join(err, j.Ledger.Journal(durable, entry))
	}
	j.reachBoundary(j.work.Key, a.name, "acted")
	if a.ends {
		return nil
	}
	if a.begins {
		if err := j.Ledger.Journal(durable, entry); err != nil {
			return err
		}
	}
	entry.State = ledger.Done
	if err := j.Ledger.Journal(durable, entry); err != nil {
		return err
	}
	j.reachBoundary(j.work.Key, a.name, "ended")
	j.report(Event{Key: j.work.Key, Step: a.name, State: Done})
	return nil
}

// loadJournal reads what earlier runs have done.
func (j *job) loadJournal(ctx context.Context) (err error) {
	switch {
	case j.past != nil:
	case !j.course.resumes, !j.work.Begun && !j.work.Redo: // there is none: it is of another generation, or closed
		j.past = map[string]ledger.Step{}
	default:
		j.past, err = j.Ledger.Steps(ctx, j.work.Key, j.work.Generation)
	}
	return err
}

// wasDone reports whether an earlier run has done a step, with the same input.
func (j *job) wasDone(a act) bool {
	p, ok := j.past[string(a.name)]
	if a.name == step.Start && j.work.IsOff {
		return false // somebody has shut it down since
	}
	return ok && !j.work.Again && p.State == ledger.Done && p.Input == machine.Digest(a.input)
}
