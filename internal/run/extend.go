package run

import (
	"context"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/notice"
	"mintbatch/internal/core/proof"
)

// Extend records, in the same manner as Mint, until when machines are needed, and starts those that a sweep has shut down
// before (Redo). Nothing else is changed.
func (e *Engine) Extend(ctx, stop context.Context, works []proof.Work) []Result {
	return e.runAll(ctx, stop, works, path{extendChain, false})
}

func extendChain(j *job) chain {
	var steps []act
	if j.enrols(j.work.Machine) { // with dates among their attributes
		steps = append(steps, j.enrolAct(j.work.Machine, false))
	}
	steps = append(steps, j.record(contract.StageMade))
	if j.work.Redo {
		steps = append(steps, j.startActs()...)
	}
	return chain{steps: steps, end: func(ctx context.Context) error {
		tell := j.notices(notice.Changed, j.work.Machine, nil)
		return j.told(tell, j.Ledger.Finish(ctx, j.Run, *j.work.Machine, "extended", j.work.Why(), tell...))
	}}
}
