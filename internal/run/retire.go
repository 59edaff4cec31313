package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/ledger"
	"mintbatch/internal/site"
)

// retire removes a machine from its site and then from the ledger. Interrupted
// in between, it finds the machine gone and forgets it the next time.
func (j *job) retire(ctx, stop context.Context) (Step, Act, error) {
	if stopped(stop) || ctx.Err() != nil {
		return "", "", ErrStopped
	}
	j.at(j.work.Key, Remove, "before")
	entry := ledger.Step{Key: j.work.Key, Generation: j.work.Generation, Step: string(Remove), Run: j.Run, State: ledger.Begun}
	if err := j.Ledger.Journal(context.WithoutCancel(ctx), entry); err != nil {
		return Remove, "", err
	}
	j.at(j.work.Key, Remove, "begun")
	j.tell(Event{Key: j.work.Key, Step: Remove, State: Begun})
	if err := j.takeDown(ctx); err != nil {
		if ctx.Err() != nil {
			return Remove, "", ErrStopped
		}
		return Remove, "", err
	}
	j.at(j.work.Key, Remove, "acted")
	if err := j.Ledger.Forget(context.WithoutCancel(ctx), j.Run, j.work.Key, j.rests(), j.Disks == survey.KeepDisks); err != nil {
		return Remove, "", err
	}
	j.at(j.work.Key, Remove, "ended")
	return "", "", nil
}

// halt shuts a machine down in an orderly way and leaves it there.
func (j *job) halt(ctx, stop context.Context) (Step, Act, error) {
	if stopped(stop) || ctx.Err() != nil {
		return "", "", ErrStopped
	}
	err := j.take(ctx, stop, step{Halt, time.Now(), func(ctx, _ context.Context) error {
		return j.settle(ctx, Halt, func(ctx context.Context) (survey.Task, error) { return j.site.Power(ctx, j.work.Identity, machine.Off) })
	}})
	return Halt, "", err
}

func (j *job) takeDown(ctx context.Context) error {
	remove := func(ctx context.Context) (survey.Task, error) { return j.site.Remove(ctx, j.work.Identity, j.Disks) }
	there, err := j.site.Machine(ctx, j.work.Identity)
	switch {
	case errors.Is(err, site.ErrNotFound): // but a clone that was cut short may have left something
		return j.settle(ctx, Remove, remove)
	case err != nil:
		return err
	case there.Mark == nil || there.Mark.Ledger != j.Owner || there.Mark.Key != j.work.Key.String():
		return fmt.Errorf("%w: the site does not know it as this ledger's", site.ErrRefused)
	}
	if there.Power == machine.On {
		err := j.settle(ctx, Remove, func(ctx context.Context) (survey.Task, error) { return j.site.Power(ctx, j.work.Identity, machine.Off) })
		// A guest that does not hear is not waited for longer when its disks go anyway.
		if err != nil && j.Disks == survey.KeepDisks {
			return err
		}
	}
	if j.Disks == survey.KeepDisks {
		kept := ledger.Kept{Key: j.work.Key, Generation: j.work.Generation, Disks: there.Files, Run: j.Run}
		if err := j.Ledger.KeepDisks(context.WithoutCancel(ctx), kept); err != nil {
			return err
		}
	}
	return j.settle(ctx, Remove, remove)
}

// rests tells until when the addresses of a machine that goes rest.
func (j *job) rests() map[string]time.Time {
	until := map[string]time.Time{}
	for network, d := range j.Cooling {
		if d > 0 {
			until[network] = time.Now().Add(d)
		}
	}
	return until
}
