package run

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/ledger"
	"mintbatch/internal/site"
)

// job is one machine on its way through its steps.
type job struct {
	*Engine
	work  proof.Work
	site  site.Site
	began time.Time
	past  map[string]ledger.Step // what earlier runs did
	gone  int                    // steps of the chain that are behind it
}

// step is a step of a machine's chain. The input is all that decides what the
// step does; while it is the same, a step that was done is not done again.
type step struct {
	name  Step
	input any
	do    func(ctx, stop context.Context) error
}

// chain lists the steps that the work consists of.
func (j *job) chain() []step {
	m := j.work.Machine
	id := j.work.Identity
	var chain []step
	add := func(name Step, input any, act func(context.Context) (survey.Task, error)) {
		chain = append(chain, step{name, input, func(ctx, _ context.Context) error { return j.settle(ctx, name, act) }})
	}
	adjust := j.work.Word == proof.Adjust
	reserved := j.Reserved[m.Key]
	rewired := j.work.Changes("network") || j.work.Changes("mac")
	if adjust && rewired {
		chain = append(chain, step{Reserve, []any{m.Adapters, reserved}, func(ctx, _ context.Context) error {
			return j.Ledger.Reserve(context.WithoutCancel(ctx), m.Key, reserved)
		}})
	}
	if !adjust {
		chain = append(chain,
			step{Reserve, []any{m.Spec, reserved, j.work.Place}, func(ctx, _ context.Context) error { return j.reserve(ctx, reserved) }},
			step{Clone, m.Clone, func(ctx, _ context.Context) error { return j.clone(ctx) }})
	}
	restart := survey.Restart(m.Power != machine.StayOn)
	shape := m.Shape
	if slices.ContainsFunc(j.work.Drift, func(r proof.Reason) bool { return r.Final }) {
		shape.Disk = 0 // as it is, which is more
	}
	if !shape.IsZero() {
		add(Shape, shape, func(ctx context.Context) (survey.Task, error) { return j.site.Shape(ctx, id, shape, restart) })
	}
	cards := machine.Cards(m.Adapters)
	if !adjust || rewired || j.work.Changes("wire") {
		add(Wire, cards, func(ctx context.Context) (survey.Task, error) { return j.site.Wire(ctx, id, cards, restart) })
	}
	answered := !adjust && m.Guest.Answers != machine.NoAnswers
	seed := step{Seed, []any{m.Guest, told(m.Adapters)}, func(ctx, _ context.Context) error { return j.seed(ctx) }}
	if answered && !m.Guest.InClear() {
		chain = append(chain, seed)
	}
	if m.Checkpoint != "" {
		add(Checkpoint, m.Checkpoint, func(ctx context.Context) (survey.Task, error) { return j.site.Checkpoint(ctx, id, m.Checkpoint) })
	}
	mark := j.mark()
	add(Record, []any{mark.Mark, mark.Fingerprint}, func(ctx context.Context) (survey.Task, error) { return j.site.Record(ctx, id, mark) })
	if answered && m.Guest.InClear() { // for no longer than it must be
		chain = append(chain, seed)
	}
	power := m.Power.Rests()
	switch {
	case !adjust && m.Power.Starts():
		power = machine.On // also what is to be off again once it is confirmed
	case !adjust, j.leaves(shape, cards):
		power = ""
	}
	if power != "" {
		var input any = m.Power
		if adjust { // which may have shut it down, and been cut short
			input = []any{m.Power, m.Fingerprint()}
		}
		add(Start, input, func(ctx context.Context) (survey.Task, error) { return j.site.Power(ctx, id, power) })
	}
	if power == machine.On {
		chain = append(chain, step{Confirm, m.Spec, j.confirm})
	}
	return chain
}

// leaves tells whether an adjust leaves the power as it is: somebody has turned
// the machine off or on, and nobody has asked to undo that. One that an earlier
// run has shut down to shape or wire it, and did not start again, is not left so.
func (j *job) leaves(shape machine.Shape, cards []machine.Adapter) bool {
	if j.work.Changes("power") || j.work.Again || j.work.Power == "" || j.work.Power == j.work.Machine.Power.Rests() {
		return false
	}
	cutShort := func(name Step, input any) bool {
		p, begun := j.past[string(name)]
		return begun && p.State != ledger.Done && p.Input == machine.Digest(input)
	}
	return j.work.Power == machine.On || !cutShort(Shape, shape) && !cutShort(Wire, cards)
}

// reserve writes that the machine is being made, and where, before anything is.
func (j *job) reserve(ctx context.Context, reserved []ledger.Reservation) error {
	durable := context.WithoutCancel(ctx)
	if err := j.Ledger.Begin(durable, j.Run, *j.work.Machine, j.work.Generation, reserved); err != nil {
		return err
	}
	if p := j.work.Place; p != nil {
		return j.Ledger.Placed(durable, j.work.Key, p.Host, p.Store)
	}
	return nil
}

// told is what the guest is told of its adapters. How they are plugged in at
// the site is none of that, and no reason for another seed.
func told(adapters []machine.Adapter) []machine.Adapter {
	all := slices.Clone(adapters)
	for i := range all {
		all[i].VLAN, all[i].Model, all[i].Unplugged, all[i].Lease = 0, "", false, netip.Prefix{}
	}
	return all
}

func (j *job) mark() survey.Mark {
	m := j.work.Machine
	return survey.Mark{Ledger: j.Owner, Key: m.Key.String(), Generation: j.work.Generation,
		Fingerprint: m.Fingerprint(), Run: j.Run, Folder: m.Clone.Folder, Mark: m.Mark, Spec: survey.MarkedSpec(m.Spec)}
}

// How often an act is asked for whose task the site has forgotten, or whose task
// has failed, and how long the site is left alone in between.
const (
	mostAsked  = 3
	mostFailed = 2
	respite    = 500 * time.Millisecond
)

// settle asks for an act and waits for its real end. A task that the site no
// longer knows (it was restarted) means that nobody knows; the act is asked for
// again, which changes nothing where it was done. One that has failed is tried
// once more: what failed for a cause that lasts fails again, and the time of an
// operator who has to run a batch again is worth more.
func (j *job) settle(ctx context.Context, name Step, act func(context.Context) (survey.Task, error)) error {
	err := j.settled(ctx, name, act)
	switch {
	case !errors.Is(err, site.ErrDeaf):
		return err
	case !j.ForceOff:
		return fmt.Errorf("%w; --force-off cuts its power", err)
	}
	err = j.settled(ctx, name, func(ctx context.Context) (survey.Task, error) { return j.site.Power(ctx, j.work.Identity, machine.Cut) })
	if err != nil {
		return fmt.Errorf("cut its power: %w", err)
	}
	return j.settled(ctx, name, act)
}

func (j *job) settled(ctx context.Context, name Step, act func(context.Context) (survey.Task, error)) error {
	limit := j.Times[j.actOf(name)]
	if name == Confirm {
		limit = j.Times[Work]
	}
	limited, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	for asked := 1; ; asked++ {
		if err := j.Ledger.Current(); err != nil {
			return err // another run may be at this machine by now
		}
		t, err := act(limited)
		if err == nil {
			t, err = j.await(limited, name, t)
		}
		switch {
		case t.ID != "" && errors.Is(err, site.ErrNotFound) && asked < mostAsked:
			continue
		case err != nil && ctx.Err() == nil && limited.Err() != nil:
			return fmt.Errorf("no end after %s; look at the site, then run the same command again", limit)
		case err != nil:
			return err
		case t.Reason == survey.Deaf:
			return fmt.Errorf("%w: %s", site.ErrDeaf, t.Error)
		case t.State == survey.Failed && t.Reason == "" && asked < mostFailed:
			if err := sleep(limited, respite); err != nil {
				return err
			}
			continue
		case t.State == survey.Failed:
			return fmt.Errorf("the site's task failed: %s", t.Error)
		}
		return nil
	}
}

// await polls a task with growing pauses until it is settled.
func (j *job) await(ctx context.Context, name Step, t survey.Task) (survey.Task, error) {
	pause := pauses()
	for !t.Settled() {
		j.tell(Event{Key: j.work.Key, Step: name, State: Goes, Share: t.Share})
		if err := sleep(ctx, pause.NextBackOff()); err != nil {
			return t, err
		}
		next, err := j.site.Task(ctx, t.ID)
		if err != nil {
			return t, err
		}
		t = next
	}
	return t, nil
}

func pauses() *backoff.ExponentialBackOff {
	return &backoff.ExponentialBackOff{InitialInterval: 20 * time.Millisecond, Multiplier: 1.5, MaxInterval: 2 * time.Second, RandomizationFactor: 0.3}
}

func sleep(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}

func (j *job) clone(ctx context.Context) error {
	if j.work.Replaces != uuid.Nil {
		err := j.settle(ctx, Clone, func(ctx context.Context) (survey.Task, error) {
			return j.site.Remove(ctx, j.work.Replaces, survey.DeleteDisks)
		})
		if err != nil {
			return fmt.Errorf("remove the clone that this one replaces: %w", err)
		}
		j.tell(Event{Key: j.work.Key, Step: Clone, State: Removed})
	}
	m := j.work.Machine
	order := survey.CloneOrder{Identity: j.work.Identity, Name: m.Name, Clone: m.Clone, Mark: j.mark(), Shape: m.Shape, Adapters: machine.Cards(m.Adapters)}
	if p := j.work.Place; p != nil {
		order.Host, order.Store = p.Host, p.Store
	}
	err := j.settle(ctx, Clone, func(ctx context.Context) (survey.Task, error) { return j.site.Clone(ctx, order) })
	if err != nil {
		return fmt.Errorf("from %s: %w", m.Clone.Template, err)
	}
	if j.work.Place != nil {
		return nil // it is written down already where the machine is
	}
	made, err := j.site.Machine(ctx, j.work.Identity)
	if err != nil {
		return err
	}
	return j.Ledger.Placed(context.WithoutCancel(ctx), m.Key, made.Host, made.Store)
}
