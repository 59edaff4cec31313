// Package template holds the use cases about templates that are made here: each has versions, which
// are numbered, never changed, and made at a site by steps that may be repeated.
package template

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/step"
	"mintbatch/internal/mint"
	"mintbatch/internal/plan"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
)

// ErrRefused means that something cannot be done as it was asked for.
var ErrRefused = errors.New("nothing was done")

func refuse(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrRefused, fmt.Sprintf(format, args...))
}

// maker opens a site that makes templates.
func maker(d *mint.Desk, name string) (site.TemplateMaker, site.Site, error) {
	opened, err := d.Sites.Site(name)
	if err != nil {
		return nil, nil, err
	}
	m, can := opened.(site.TemplateMaker)
	if !can {
		return nil, nil, refuse("site %s: this kind of site does not make templates", name)
	}
	return m, opened, nil
}

// siteOf is the site that is named, or the only one of the setup.
func siteOf(d *mint.Desk, name string) (string, error) {
	all := setup.Names(d.Setup.Sites)
	switch {
	case name == "" && len(all) == 1:
		return all[0], nil
	case name == "":
		return "", refuse("the setup has several sites; name one of them with --site")
	case !slices.Contains(all, name):
		return "", fmt.Errorf("%w site: %q (%s)", mint.ErrUnknown, name, finding.DidYouMean(name, all))
	}
	return name, nil
}

// act is one step of the work on a version.
type act struct {
	name step.Name
	do   func(ctx context.Context, share func(float64)) error
}

// Scope are the versions of templates: only one run at a time works on them.
func Scope(key machine.Key) bool {
	_, is := machine.VersionOf(key.Name)
	return is
}

// task is that of doing acts one after the other, for a version at a site.
func task(command string, key machine.Key, acts func(e *run.Engine) []act) mint.Task {
	return taskWith(command, key, nil, acts)
}

// taskWith is task, while nobody works on other things.
func taskWith(command string, key machine.Key, also []machine.Key, acts func(e *run.Engine) []act) mint.Task {
	w := proof.Work{Key: key, Slim: &machine.Slim{}, Word: proof.New}
	return mint.Doing(command, []proof.Work{w}, also, func(e *run.Engine, ctx, stop context.Context) []run.Result {
		began := time.Now()
		result := func(name step.Name, err error) []run.Result {
			return []run.Result{{Work: w, Step: name, Err: err, Took: time.Since(began)}}
		}
		emit := func(ev run.Event) {
			ev.Key = key
			e.Watch(ev)
		}
		reach := func(name step.Name, moment string) {
			if e.Boundary != nil {
				e.Boundary(run.Boundary{Key: key, Step: name, Moment: moment})
			}
		}
		for _, a := range acts(e) {
			if stop.Err() != nil {
				return result(a.name, run.ErrStopped)
			}
			emit(run.Event{Step: a.name, State: run.Begun})
			reach(a.name, "begun")
			err := a.do(ctx, func(share float64) { emit(run.Event{Step: a.name, State: run.Progress, Share: share}) })
			if err != nil {
				emit(run.Event{Step: a.name, State: run.Failed, Err: err})
				return result(a.name, err)
			}
			reach(a.name, "acted")
			emit(run.Event{Step: a.name, State: run.Done})
		}
		emit(run.Event{State: run.Finished})
		return result("", nil)
	})
}

// How often a task is asked for.
const (
	firstPoll = 50 * time.Millisecond
	lastPoll  = 2 * time.Second
)

// inTime limits an act that copies a disk, by what the setup says of full clones.
func inTime(ctx context.Context, d *mint.Desk) (context.Context, context.CancelFunc) {
	return context.WithTimeout(ctx, plan.Times(d.Batch)[run.FullClone])
}

// settle waits for what a site was asked for.
func settle(ctx context.Context, at site.Site, t contract.Task, err error, share func(float64)) error {
	for pause := firstPoll; err == nil && !t.Settled(); pause = min(2*pause, lastPoll) {
		share(t.Share)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
		t, err = at.Task(ctx, t.ID)
	}
	if err == nil && t.State == contract.Failed {
		err = site.Failure(t)
	}
	return err
}
