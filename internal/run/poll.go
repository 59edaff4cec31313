package run

import (
	"context"
	"sync"
	"time"

	"mintbatch/internal/core/step"
)

// durations are how long the tasks of a run have taken: a site is asked about the next
// one when that may be at its end, and not before.
type durations struct {
	mu  sync.Mutex
	all map[taskKind]time.Duration
}

type taskKind struct {
	site string
	step step.Name
}

// learn takes note of how long a task took. What it keeps is what few tasks come below:
// it falls fast and rises slowly.
func (d *durations) learn(site string, name step.Name, took time.Duration) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.all == nil {
		d.all = map[taskKind]time.Duration{}
	}
	kind := taskKind{site, name}
	switch short, known := d.all[kind]; {
	case !known:
		d.all[kind] = took
	case took < short:
		d.all[kind] -= (short - took) / 2
	default:
		d.all[kind] += min(took-short, 4*short) / 16
	}
}

// of is what few tasks come below; 0 if that is not known.
func (d *durations) of(site string, name step.Name) time.Duration {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.all[taskKind{site, name}]
}

// polls are the moments at which to ask about a task of the job that has just begun, by
// what others have taken in this run, or in earlier ones.
func (j *job) polls(name step.Name) *polls {
	short := j.durations.of(j.work.Site, name)
	if short == 0 && j.Least != nil {
		short = j.Least(j.work, name)
	}
	now := time.Now()
	return &polls{short: short * 9 / 10, began: now, asked: now}
}

// polls waits between the polls of a task.
type polls struct {
	short        time.Duration // few tasks end before; 0 if that is not known
	began, asked time.Time
}

// The shortest pause between polls, the longest of a task that does not take long, and
// how long people do without news of one.
const (
	firstPoll  = 20 * time.Millisecond
	lastPoll   = 2 * time.Second
	shownEvery = 20 * time.Second
)

// wait waits until the next poll is due. The time that a site took for its last answer
// counts: one that answers only when there is news is asked again at once.
func (p *polls) wait(ctx context.Context) error {
	err := sleep(ctx, p.pause(time.Since(p.began))-time.Since(p.asked))
	p.asked = time.Now()
	return err
}

// pause is how long after the last poll the next one is due: until the task has ended, and
// that is seen, it has its slot.
func (p *polls) pause(elapsed time.Duration) time.Duration {
	switch {
	case p.short == 0:
		return min(max(elapsed/2, firstPoll), lastPoll)
	case elapsed < p.short:
		return min(p.short-elapsed, shownEvery)
	}
	return min(max(elapsed/20, firstPoll), max(lastPoll, elapsed/50))
}
