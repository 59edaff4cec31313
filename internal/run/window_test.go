package run

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/sequence"
	"mintbatch/internal/core/window"
	"mintbatch/internal/site"
)

// slow is a site whose changes take 25 minutes.
type slow struct {
	ready
	mu    *sync.Mutex
	began map[uuid.UUID]time.Time
}

func (s slow) Shape(_ context.Context, id uuid.UUID, _ machine.Shape, _ contract.Restart) (contract.Task, error) {
	s.mu.Lock()
	s.began[id] = time.Now()
	s.mu.Unlock()
	time.Sleep(25 * time.Minute)
	return done, nil
}

// Changes that restart a machine begin in the window, so many at once as may, and not after it;
// what comes after such a machine waits for it, and others are done at once.
func TestRestartWindow(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := slow{mu: &sync.Mutex{}, began: map[uuid.UUID]time.Time{}}
		var works []proof.Work
		var nodes []sequence.Node
		add := func(name string, word proof.Word, reasons []proof.Reason, after ...string) {
			m := &machine.Machine{Key: machine.Key{Site: "quay", Name: name}, Spec: machine.Spec{Shape: machine.Shape{CPUs: 2}, Power: machine.On, After: after, Guest: machine.Guest{Answers: machine.NoAnswers}}}
			works = append(works, proof.Work{Key: m.Key, Word: word, Slim: m.Spec.Slim(), Reasons: reasons, Power: machine.On, Identity: uuid.New()})
			nodes = append(nodes, sequence.NodeOf(m.Key, &m.Spec))
		}
		restarts := []proof.Reason{{Field: "cpus", From: "1", To: "2", Restart: true}}
		for i := range 12 {
			add(fmt.Sprintf("bms-db-%02d", i+1), proof.Adjust, restarts)
		}
		add("bms-tide-01", proof.Adjust, []proof.Reason{{Field: "owner", To: "desk"}})
		add("bms-app-01", proof.New, nil, "bms-db-01")
		add("bms-app-02", proof.New, nil, "bms-db-*")
		keys := make([]machine.Key, len(works))
		for i, w := range works {
			keys[i] = w.Key
		}
		began := time.Now()
		opens := began.Add(3 * time.Hour)
		w, err := window.Parse(opens.Format("15:04") + "-" + opens.Add(time.Hour).Format("15:04"))
		require.NoError(t, err)
		e := Engine{Run: "r", Ledger: forgetful{}, Sites: map[string]site.Site{"quay": s}, Window: w, Gates: NewGates(sequence.Of(nodes), keys, nil),
			Limits: map[string]Limits{"quay": {Site: Parallel{AnyStep: 3}}}, Times: map[Slot]time.Duration{AnyStep: time.Hour, Starting: time.Hour, Confirming: time.Hour}}
		results := e.Mint(t.Context(), t.Context(), works)
		begun := 0
		for i, r := range results[:12] {
			at, is := s.began[works[i].Identity]
			var held *HeldBack
			if !is {
				assert.True(t, errors.As(r.Err, &held), "%v", r.Err)
				assert.ErrorContains(t, r.Err, "held back by the restart window "+w.String()+", which is over")
				continue
			}
			begun++
			assert.NoError(t, r.Err)
			assert.False(t, at.Before(opens), at)
			assert.True(t, at.Before(opens.Add(time.Hour)), at)
		}
		assert.Equal(t, 9, begun, "three at once, three times")
		assert.NoError(t, results[12].Err)
		assert.Less(t, s.began[works[12].Identity].Sub(began), time.Hour, "it restarts nothing")
		assert.NoError(t, results[13].Err, "bms-db-01 was in time")
		assert.ErrorContains(t, results[14].Err, "held back by the restart window")
		assert.Less(t, time.Since(began), 5*time.Hour)

		stop, leave := context.WithTimeout(t.Context(), time.Minute)
		defer leave()
		e.Gates = nil
		for _, r := range e.Mint(t.Context(), stop, works[:3]) {
			assert.ErrorIs(t, r.Err, ErrStopped, "told to stop while it waits")
		}
	})
}
