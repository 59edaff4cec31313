package run

import (
	"context"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/notice"
	"mintbatch/internal/ledger"
)

// notices are what others are to be told of a machine.
func (j *job) notices(kind notice.Kind, m *machine.Machine, failure *Event) []ledger.Outgoing {
	if j.Around.Tell == nil || m == nil {
		return nil
	}
	e := notice.Event{Kind: kind, Machine: notice.About(m, j.work.Identity.String(), j.work.Generation)}
	if failure != nil {
		e.Step, e.Error = string(failure.Step), failure.Err.Error()
	}
	return j.Around.Tell(e)
}

// told lets be sent what was kept, if anything was.
func (j *job) told(all []ledger.Outgoing, err error) error {
	if err == nil && len(all) > 0 {
		j.Around.Told()
	}
	return err
}

// tellFailure keeps the notices of a machine that has failed. That this cannot be done is no failure of its own: the ledger is told
// to be the cause elsewhere.
func (j *job) tellFailure(failure Event) {
	all := j.notices(notice.Failed, j.work.Machine(), &failure)
	_ = j.told(all, j.Ledger.PutOutbox(context.Background(), all))
}
