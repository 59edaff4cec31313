package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
)

// keepAll keeps the checkpoints of the row: those from before the first start, or the others.
func (j *job) keepAll(ctx context.Context, name step.Name) error {
	for _, c := range j.work.Machine().Checkpoints() {
		if (c.Moment == machine.BeforeStart) != (name == step.Checkpoint) {
			continue
		}
		if err := j.keep(ctx, name, c); err != nil {
			return fmt.Errorf("%s: %w", c.Name, err)
		}
	}
	return nil
}

// staysOn reports whether a machine that is shut down for a checkpoint is started again.
func (j *job) staysOn() bool {
	return j.work.Machine().Power.Rests() == machine.On && j.work.LeftOff == ""
}

// keep keeps one checkpoint. Is the machine to be off for it, it is shut down, and started
// again if it is to be on.
func (j *job) keep(ctx context.Context, name step.Name, c machine.Checkpoint) error {
	power := func(p machine.Power) error {
		return j.perform(ctx, name, func(ctx context.Context) (contract.Task, error) { return j.site.Power(ctx, j.work.Identity, p) })
	}
	if c.Moment == machine.ConfirmedOff {
		if err := power(machine.Off); err != nil {
			return err
		}
	}
	err := j.perform(ctx, name, func(ctx context.Context) (contract.Task, error) {
		return j.site.Checkpoint(ctx, j.work.Identity, c.Name)
	})
	if c.Moment == machine.ConfirmedOff && j.staysOn() {
		return errors.Join(err, power(machine.On))
	}
	return err
}

// Keep keeps checkpoints of made machines, in the same manner as Mint.
func (e *Engine) Keep(ctx, stop context.Context, works []proof.Work) []Result {
	return e.runAll(ctx, stop, works, path{func(j *job) chain {
		keep := act{name: step.Keep, input: time.Now(), do: func(ctx, _ context.Context) error { return j.keep(ctx, step.Keep, e.Checkpoint) }}
		steps := []act{keep}
		if e.Checkpoint.Moment == machine.ConfirmedOff && j.staysOn() {
			steps = append(steps, j.up(step.Await, time.Now()))
		}
		return chain{steps: steps, end: j.finish("checkpoint kept", e.Checkpoint.Name)}
	}, false})
}

// Drop deletes checkpoints of machines, in the same manner as Mint.
func (e *Engine) Drop(ctx, stop context.Context, works []proof.Work) []Result {
	return e.runAll(ctx, stop, works, path{func(j *job) chain {
		drop := j.siteAct(step.Drop, time.Now(), func(ctx context.Context) (contract.Task, error) {
			return j.site.Drop(ctx, j.work.Identity, e.Checkpoint.Name)
		})
		return chain{steps: []act{drop}, end: func(ctx context.Context) error {
			return j.Ledger.CloseOwn(ctx, j.Run, j.work.Key, "checkpoint dropped", e.Checkpoint.Name)
		}}
	}, false})
}

// Restore brings machines back to a checkpoint, in the same manner as Mint. All that ledger
// and row say of them is brought in line again: they may have been changed since.
func (e *Engine) Restore(ctx, stop context.Context, works []proof.Work) []Result {
	return e.runAll(ctx, stop, works, path{restoreChain, false})
}

func restoreChain(j *job) chain {
	m, id, restart := j.work.Machine(), j.work.Identity, contract.MayRestart
	restore := j.siteAct(step.Restore, time.Now(), func(ctx context.Context) (contract.Task, error) {
		return j.site.Restore(ctx, id, j.Checkpoint.Name)
	})
	restore.undone = "not restored"
	steps := []act{restore}
	if j.work.Cleaned { // which its next start must not go on with
		eject := j.siteAct(step.Clean, time.Now(), func(ctx context.Context) (contract.Task, error) { return j.site.Seed(ctx, id, nil) })
		steps = []act{eject, restore}
	}
	fresh := false // it does its first boot again
	for _, c := range m.Checkpoints() {
		fresh = fresh || c == machine.Checkpoint{Name: j.Checkpoint.Name}
	}
	if !m.Shape.IsZero() {
		steps = append(steps, j.siteAct(step.Shape, time.Now(), func(ctx context.Context) (contract.Task, error) { return j.site.Shape(ctx, id, m.Shape, restart) }))
	}
	cards := machine.Cards(m.Adapters)
	steps = append(steps, j.siteAct(step.Wire, time.Now(), func(ctx context.Context) (contract.Task, error) { return j.site.Wire(ctx, id, cards, restart) }),
		j.record(contract.StageMade))
	if (fresh && (m.DropSeed || m.Guest.Confirm == machine.CallHome) || j.work.Cleaned && !m.DropSeed) && kinds.Of(m.Guest).Reads() {
		steps = append(steps, act{name: step.Seed, input: time.Now(), do: func(ctx, _ context.Context) error { return j.seed(ctx) }})
	}
	if fresh && m.Media != "" {
		steps = append(steps, j.siteAct(step.Insert, time.Now(), func(ctx context.Context) (contract.Task, error) { return j.site.Insert(ctx, id, m.Media) }))
	}
	switch {
	case m.Power.Rests() == machine.On && fresh:
		steps = append(steps, j.startActs()[0], act{name: step.Confirm, input: time.Now(), do: j.confirm})
		if m.Media != "" {
			steps = append(steps, j.eject())
		}
	case m.Power.Rests() == machine.On:
		steps = append(steps, j.startActs()...)
	}
	return chain{steps: steps, end: j.finish("restored", j.Checkpoint.Name)}
}
