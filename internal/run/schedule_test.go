package run

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A full clone that waits for its store keeps nobody else; what is begun goes
// first, then the longest.
func TestSchedule(t *testing.T) {
	s := newSchedule(map[string]Limits{"quay": {Site: Parallel{AnyStep: 3}, Store: Parallel{FullClone: 1}}})
	bulk, fast := demand{"quay", "hv1", "bulk", FullClone}, demand{"quay", "hv1", "fast", AnyStep}
	s.add(bulk, waiter{index: 0, expected: time.Hour})
	s.add(bulk, waiter{index: 1, expected: 2 * time.Hour})
	s.add(fast, waiter{index: 2, expected: time.Second})
	s.add(fast, waiter{index: 3, expected: time.Second})
	s.add(fast, waiter{index: 4, under: true})
	taken := func() (all []int) {
		for {
			_, w, ok := s.next()
			if !ok {
				return all
			}
			all = append(all, w.index)
		}
	}
	assert.Equal(t, []int{4, 1, 2}, taken(), "three at the site, one copy at the store")
	s.release(fast)
	assert.Equal(t, []int{3}, taken(), "the second copy waits, and holds nothing")
	s.release(bulk)
	assert.Equal(t, []int{0}, taken())
	s.add(demand{"quay", "hv1", "", Confirming}, waiter{index: 5})
	assert.Equal(t, []int{5}, taken(), "a wait for a guest takes no place of work")
	s.add(fast, waiter{index: 6})
	assert.Len(t, s.rest(), 1)
	assert.Empty(t, taken())
}
