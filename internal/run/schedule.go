package run

import "time"

// Slot is a kind of step of which only so many are done in parallel.
type Slot string

// The slots that have limits of their own. All but confirms also count as any.
const (
	AnyStep    Slot = "machines" // whatever the site does to a machine
	FullClone  Slot = "full_clones"
	Starting   Slot = "starts"
	Confirming Slot = "confirms" // waiting for a guest's report

	// Brief is of steps that merely tell a site something: they need no slot.
	Brief Slot = "brief"
)

// Parallel is how many slots there are of each kind; 0 is no limit.
type Parallel map[Slot]int

// Limits are those of a site as a whole, and of each of its hosts and stores.
type Limits struct{ Site, Host, Store Parallel }

// demand is what a machine needs to go on: a slot at a site, on a host and a store
// where these are known.
type demand struct {
	site, host, store string
	slot              Slot
}

// counters are those that a demand takes one of each.
func (d demand) counters() []counter {
	slots := []Slot{AnyStep, d.slot}
	switch d.slot {
	case Confirming, AnyStep:
		slots = slots[1:]
	case Brief:
		return nil
	}
	var all []counter
	for _, slot := range slots {
		all = append(all, counter{d.site, "", "", slot})
		if d.host != "" {
			all = append(all, counter{d.site, d.host, "", slot})
		}
		if d.store != "" {
			all = append(all, counter{d.site, "", d.store, slot})
		}
	}
	return all
}

type counter struct {
	site, host, store string
	slot              Slot
}

// waiter is a machine that waits for slots.
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

// schedule decides who goes next. Whoever waits holds no slot, and whoever could
// go is never kept by one who could not.
type schedule struct {
	limits map[string]Limits // by site
	used   map[counter]int
	queues map[demand]*queue[waiter]
	takes  map[demand][]counter
}

func newSchedule(limits map[string]Limits) *schedule {
	return &schedule{limits: limits, used: map[counter]int{}, queues: map[demand]*queue[waiter]{}, takes: map[demand][]counter{}}
}

// add puts a machine into the queue for what it needs.
func (s *schedule) add(d demand, w waiter) {
	q := s.queues[d]
	if q == nil {
		q = &queue[waiter]{before: waiter.before}
		s.queues[d], s.takes[d] = q, d.counters()
	}
	q.push(w)
}

// next takes the first of those whose slots are free.
func (s *schedule) next() (demand, waiter, bool) {
	var best demand
	var first waiter
	found := false
	for d, q := range s.queues {
		if q.Len() == 0 || found && !q.first().before(first) || !s.free(d) {
			continue
		}
		best, first, found = d, q.first(), true
	}
	if found {
		s.queues[best].pop()
		for _, taken := range s.takes[best] {
			s.used[taken]++
		}
	}
	return best, first, found
}

// waiting reports whether somebody waits already for what a demand needs.
func (s *schedule) waiting(d demand) bool { return s.queues[d] != nil && s.queues[d].Len() > 0 }

func (s *schedule) free(d demand) bool {
	takes, known := s.takes[d]
	if !known {
		takes = d.counters()
	}
	for _, c := range takes {
		if n := s.limit(c); n > 0 && s.used[c] >= n {
			return false
		}
	}
	return true
}

func (s *schedule) limit(c counter) int {
	limits := s.limits[c.site]
	switch {
	case c.host != "":
		return limits.Host[c.slot]
	case c.store != "":
		return limits.Store[c.slot]
	}
	return limits.Site[c.slot]
}

// release gives the slots of a demand back.
func (s *schedule) release(d demand) {
	for _, taken := range s.takes[d] {
		s.used[taken]--
	}
}

// rest empties all queues.
func (s *schedule) rest() []waiter {
	var all []waiter
	for _, q := range s.queues {
		all = append(all, q.all...)
		q.all = nil
	}
	return all
}
