//go:build unix

package run

import (
	"context"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/site"
)

// away is a site that cannot be reached for a while, in which its guests boot.
type away struct {
	ready
	from, to, up time.Time
}

func (a away) Machine(_ context.Context, id uuid.UUID) (*contract.Machine, error) {
	now := time.Now()
	if now.After(a.from) && now.Before(a.to) {
		return nil, fmt.Errorf("%w: no answer", site.ErrUnreachable)
	}
	m := &contract.Machine{ID: id, Power: machine.On}
	if now.After(a.up) {
		m.Report = &contract.Report{Finished: true}
	}
	return m, nil
}

// A confirm outlives an outage of its site that is shorter than its limit, and says
// what is wrong when it is longer.
func TestConfirmOutlivesAnOutage(t *testing.T) {
	for _, c := range []struct {
		outage time.Duration
		err    error
	}{{7 * time.Minute, nil}, {2 * time.Hour, site.ErrUnreachable}} {
		synctest.Test(t, func(t *testing.T) {
			now := time.Now()
			m := &machine.Machine{Key: machine.Key{Site: "quay", Name: "bms-sonar-01"},
				Spec: machine.Spec{Clone: machine.Clone{Template: "deb12-base", Kind: machine.Linked}, Guest: machine.Guest{Answers: machine.NoAnswers}, Power: machine.On}}
			e := Engine{Run: "r", Ledger: forgetful{}, Limits: map[string]Limits{}, Times: map[Slot]time.Duration{AnyStep: time.Hour, FullClone: time.Hour, Starting: time.Hour, Confirming: 25 * time.Minute},
				Sites: map[string]site.Site{"quay": away{from: now.Add(time.Second), to: now.Add(time.Second + c.outage), up: now.Add(20 * time.Minute)}}}
			work := proof.Work{Key: m.Key, Word: proof.Adjust, Slim: m.Spec.Slim(), Generation: 1, Identity: uuid.New(), Power: machine.On}
			result := e.Mint(t.Context(), t.Context(), []proof.Work{work})[0]
			if c.err == nil {
				require.NoError(t, result.Err)
				assert.GreaterOrEqual(t, time.Since(now), 20*time.Minute)
			} else {
				require.ErrorIs(t, result.Err, c.err)
			}
		})
	}
}
