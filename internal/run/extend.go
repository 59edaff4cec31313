package run

import (
	"context"

	"mintbatch/internal/core/proof"
)

// Extend records, in the same manner as Mint, until when machines are needed, and starts those that a sweep has shut down
// before (Redo). Nothing else is changed.
func (e *Engine) Extend(ctx, stop context.Context, works []proof.Work) []Result {
	return e.runAll(ctx, stop, works, path{extendChain, false})
}

func extendChain(j *job) chain {
	steps := j.tellAround()
	if j.work.Redo {
		steps = append(steps, j.startActs()...)
	}
	return chain{steps: steps, end: j.changed("extended")}
}
