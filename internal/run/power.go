package run

import (
	"context"
	"fmt"
	"time"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
)

// Start starts machines that are made, in the same manner as Mint.
func (e *Engine) Start(ctx, stop context.Context, works []proof.Work) []Result {
	return e.runAll(ctx, stop, works, path{startChain, false})
}

// Restart shuts machines down and starts them again, in the same manner as Mint.
func (e *Engine) Restart(ctx, stop context.Context, works []proof.Work) []Result {
	return e.runAll(ctx, stop, works, path{restartChain, false})
}

// startChain starts a machine and waits for its guest.
func startChain(j *job) chain {
	return chain{steps: j.startActs(), end: j.finish("started", "")}
}

// restartChain does so once it has shut the machine down.
func restartChain(j *job) chain {
	return chain{steps: append([]act{j.stopAct(step.Stop, j.work.Identity)}, j.startActs()...), end: j.finish("restarted", "")}
}

// startActs are the steps by which a made machine is up. How its guest is, is not compared
// with anything.
func (j *job) startActs() []act {
	start := j.siteAct(step.Start, time.Now(), func(ctx context.Context) (contract.Task, error) {
		return j.site.Power(ctx, j.work.Identity, machine.On)
	})
	start.gated = true
	return []act{start, j.up(step.Confirm, time.Now())}
}

// up is the step that waits for a guest's report, whatever it says.
func (j *job) up(name step.Name, input any) act {
	return act{name: name, input: input, do: func(ctx, stop context.Context) error {
		if j.work.Machine().Guest.Confirm == machine.CallHome {
			return nil // it calls on its first boot only
		}
		return j.awaitReport(ctx, stop, nil, func(*contract.Report) error { return nil })
	}}
}

// finish closes the journal of a made machine, which is as it was.
func (j *job) finish(what, detail string) func(context.Context) error {
	return func(ctx context.Context) error {
		if err := j.Ledger.Finish(ctx, j.Run, *j.work.Machine(), what, detail); err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
		return nil
	}
}
