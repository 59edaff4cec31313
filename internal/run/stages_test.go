package run

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"

	"mintbatch/internal/core/answers/cloudinit"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/site"
)

// staged is a site whose guest needs 8 minutes for each of three stages, and does not answer
// for 3 of them; after some minutes it hangs.
type staged struct {
	ready
	began time.Time
	hangs time.Duration
}

func (s staged) Seed(context.Context, uuid.UUID, []byte) (contract.Task, error) { return done, nil }

func (s staged) Machine(_ context.Context, id uuid.UUID) (*contract.Machine, error) {
	m := &contract.Machine{ID: id, Power: machine.On}
	at := min(time.Since(s.began), s.hangs)
	if at%(8*time.Minute) > 5*time.Minute {
		return m, nil
	}
	m.Report = &contract.Report{Hostname: "x", FQDN: "x", Finished: true, Logins: []string{}}
	for i, name := range []string{"one", "two", "three"} {
		if at >= time.Duration(i)*8*time.Minute {
			m.Report.TakeStage(contract.StageReport{Name: name, State: "begun"})
		}
		if at >= time.Duration(i+1)*8*time.Minute {
			m.Report.TakeStage(contract.StageReport{Name: name, State: "done"})
		}
	}
	m.Report.StagesOver = at >= 24*time.Minute
	return m, nil
}

// The limit of ten minutes counts from the last sign of progress.
func TestStagesMayTakeLong(t *testing.T) {
	for _, c := range []struct {
		hangs time.Duration
		says  string
	}{{time.Hour, ""}, {9 * time.Minute, "nothing new from the guest within 10m0s, in its stage two; it is on at the site"}} {
		synctest.Test(t, func(t *testing.T) {
			s := staged{began: time.Now(), hangs: c.hangs}
			m := &machine.Machine{Key: machine.Key{Site: "quay", Name: "x"}, Spec: machine.Spec{Power: machine.On, Guest: machine.Guest{Answers: cloudinit.Name, Hostname: "x", Password: machine.NoPassword,
				Firstboot: &machine.Firstboot{Stages: []machine.Stage{{Name: "one"}, {Name: "two"}, {Name: "three"}}}}}}
			var told []string
			e := Engine{Run: "r", Ledger: forgetful{}, Sites: map[string]site.Site{"quay": s}, Times: map[Slot]time.Duration{AnyStep: time.Hour, Starting: time.Hour, Confirming: 10 * time.Minute},
				Watch: func(ev Event) {
					if ev.Stage != nil {
						told = append(told, ev.Stage.Name+" "+ev.Stage.State)
					}
				}}
			j := &job{Engine: &e, work: proof.Work{Key: m.Key, Slim: m.Spec.Slim()}, site: s, past: nil}
			err := j.checkReport(t.Context(), t.Context())
			if c.says != "" {
				assert.EqualError(t, err, c.says)
				assert.Less(t, time.Since(s.began), 25*time.Minute)
				return
			}
			assert.NoError(t, err)
			assert.Equal(t, []string{"one begun", "one done", "two begun", "two done", "three begun", "three done"}, told)
			assert.GreaterOrEqual(t, time.Since(s.began), 24*time.Minute)
		})
	}
}
