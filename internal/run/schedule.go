package run

import (
	"container/heap"
	"time"
)

// Act is a kind of act of which only so many may be under way at once.
type Act string

// The acts that have limits of their own. All but confirms also count as work.
const (
	Work    Act = "machines" // whatever the site does to a machine
	Copy    Act = "copies"   // full clones
	Boot    Act = "starts"
	Waiting Act = "confirms" // for a guest's report
)

// AtOnce is how many acts of each kind may be under way at once; 0 is no limit.
type AtOnce map[Act]int

// Limits are those of a site as a whole, and of each of its hosts and stores.
type Limits struct{ Site, Host, Store AtOnce }

// spot is what a machine needs to go on: an act at a site, on a host and a store
// where these are known.
type spot struct {
	site, host, store string
	act               Act
}

// slots are the counters that a spot takes one of each.
func (s spot) slots() []slot {
	acts := []Act{Work, s.act}
	if s.act == Waiting || s.act == Work {
		acts = acts[1:]
	}
	var all []slot
	for _, act := range acts {
		all = append(all, slot{s.site, "", "", act})
		if s.host != "" {
			all = append(all, slot{s.site, s.host, "", act})
		}
		if s.store != "" {
			all = append(all, slot{s.site, "", s.store, act})
		}
	}
	return all
}

type slot struct {
	site, host, store string
	act               Act
}

// waiter is a machine that waits for a spot.
type waiter struct {
	index    int           // of its work
	under    bool          // it was begun: it goes before those that were not
	expected time.Duration // what is before it
}

// before orders waiters: what is begun is finished first, then the longest goes
// first, then the order of the sheet counts.
func (w waiter) before(o waiter) bool {
	switch {
	case w.under != o.under:
		return w.under
	case w.expected != o.expected:
		return w.expected > o.expected
	}
	return w.index < o.index
}

// line is all waiters for one spot, the next one first.
type line []waiter

func (l line) Len() int           { return len(l) }
func (l line) Less(i, j int) bool { return l[i].before(l[j]) }
func (l line) Swap(i, j int)      { l[i], l[j] = l[j], l[i] }
func (l *line) Push(v any)        { *l = append(*l, v.(waiter)) }
func (l *line) Pop() any {
	last := (*l)[len(*l)-1]
	*l = (*l)[:len(*l)-1]
	return last
}

// schedule decides who goes next. Whoever waits holds no slot, and whoever could
// go is never kept by one who could not.
type schedule struct {
	limits map[string]Limits // by site
	used   map[slot]int
	lines  map[spot]*line
	takes  map[spot][]slot
}

func newSchedule(limits map[string]Limits) *schedule {
	return &schedule{limits: limits, used: map[slot]int{}, lines: map[spot]*line{}, takes: map[spot][]slot{}}
}

// add puts a machine into the line for a spot.
func (s *schedule) add(at spot, w waiter) {
	l := s.lines[at]
	if l == nil {
		l = &line{}
		s.lines[at], s.takes[at] = l, at.slots()
	}
	heap.Push(l, w)
}

// next takes the first of those whose spot is free.
func (s *schedule) next() (spot, waiter, bool) {
	var best spot
	var first waiter
	found := false
	for at, l := range s.lines {
		if len(*l) == 0 || found && !(*l)[0].before(first) || !s.free(at) {
			continue
		}
		best, first, found = at, (*l)[0], true
	}
	if found {
		heap.Pop(s.lines[best])
		for _, taken := range s.takes[best] {
			s.used[taken]++
		}
	}
	return best, first, found
}

func (s *schedule) free(at spot) bool {
	for _, one := range s.takes[at] {
		if n := s.limit(one); n > 0 && s.used[one] >= n {
			return false
		}
	}
	return true
}

func (s *schedule) limit(one slot) int {
	limits := s.limits[one.site]
	switch {
	case one.host != "":
		return limits.Host[one.act]
	case one.store != "":
		return limits.Store[one.act]
	}
	return limits.Site[one.act]
}

// leave gives a spot's slots back.
func (s *schedule) leave(at spot) {
	for _, taken := range s.takes[at] {
		s.used[taken]--
	}
}

// rest empties all lines.
func (s *schedule) rest() []waiter {
	var all []waiter
	for _, l := range s.lines {
		all = append(all, *l...)
		*l = nil
	}
	return all
}
