package run

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
)

// A site is asked about a task when others of its kind have ended, in this run or an
// earlier one, and not before; and never much later than a task may have ended.
func TestPolls(t *testing.T) {
	j := &job{Engine: &Engine{}}
	asked := func(took time.Duration) (polls int, late time.Duration) {
		p := j.polls(step.Clone)
		for now := time.Duration(0); ; polls++ {
			if now >= took {
				return polls, now - took
			}
			now += p.pause(now)
		}
	}
	polls, late := asked(12 * time.Second)
	assert.LessOrEqual(t, polls, 20)
	assert.LessOrEqual(t, late, lastPoll)
	j.Least = func(proof.Work, step.Name) time.Duration { return 12 * time.Second }
	polls, late = asked(12 * time.Second)
	assert.LessOrEqual(t, polls, 4)
	assert.LessOrEqual(t, late, time.Second)
	for range 50 {
		j.durations.learn("", step.Clone, time.Second)
	}
	j.durations.learn("", step.Clone, time.Hour) // one that is slow does not make others wait
	_, late = asked(time.Second)
	assert.LessOrEqual(t, late, 300*time.Millisecond)
}
