package run

import (
	"context"
	"fmt"
	"strings"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/step"
)

// stageProgress is what is known of a guest's stages.
type stageProgress struct{ all []contract.StageReport }

// take takes note of what a guest reports of its stages, and tells what is new. A stage that
// has failed is an error.
func (p *stageProgress) take(ctx context.Context, j *job, r *contract.Report) (moved bool, err error) {
	for i, s := range r.Stages {
		if i < len(p.all) && p.all[i].State == s.State {
			continue
		}
		moved = true
		told := s
		j.report(Event{Key: j.work.Key, Step: step.Confirm, State: InStage, Stage: &told})
		if s.State == "begun" {
			continue
		}
		detail := fmt.Sprintf("%s: %s after %.1f seconds, exit code %d", s.Name, s.State, s.Seconds, s.Code)
		if err := j.Ledger.NoteStage(context.WithoutCancel(ctx), j.Run, j.work.Key, detail); err != nil {
			return moved, err
		}
		if s.State == "failed" {
			err = fmt.Errorf("stage %s failed with exit code %d: %s", s.Name, s.Code, strings.Join(s.Output, " / "))
		}
	}
	p.all = r.Stages
	return moved, err
}

// at is the stage at which the guest was last; empty if it was at none.
func (p stageProgress) at() string {
	if len(p.all) == 0 {
		return ""
	}
	return p.all[len(p.all)-1].Name
}
