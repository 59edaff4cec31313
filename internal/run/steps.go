package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/notice"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
	"mintbatch/internal/ledger"
	"mintbatch/internal/site"
)

// job is one machine on its way through its chain.
type job struct {
	*Engine
	course path
	chain  *chain // nil until the job begins: what its steps change is not to change which there are
	work   proof.Work
	site   site.Site
	began  time.Time
	past   map[string]ledger.Step // what earlier runs did
	next   int                    // the first step of the chain that is not behind it
	gated  bool                   // it waits for machines that come before it
	passed bool                   // it has done so
	// entered is what this run has entered for it; nil if it has not come to that.
	entered *entry.Entered
}

// mintChain lists the steps by which a machine becomes what its row says.
func mintChain(j *job) chain {
	m := j.work.Machine()
	id := j.work.Identity
	adjust := j.work.Word == proof.Adjust
	reserved := j.Reserved[m.Key]
	rewired := j.work.Changes("network") || j.work.Changes("mac") || j.work.Changes("lease")
	var steps []act
	add := func(a act) { steps = append(steps, a) }
	switch {
	case j.work.Back:
		add(act{name: step.Reserve, begins: true, input: []any{"back", reserved}, do: func(ctx, _ context.Context) error {
			return j.Ledger.Revert(context.WithoutCancel(ctx), j.Run, m.Key, reserved)
		}})
	case adjust && (rewired || j.work.Redo):
		add(j.reservations(reserved))
	case !adjust:
		input := []any{m.Spec, reserved, j.work.Place}
		if len(j.work.Data) > 0 { // a run that was begun without them has not written them down
			input = append(input, j.work.Data)
		}
		add(act{name: step.Reserve, input: input, do: func(ctx, _ context.Context) error { return j.begin(ctx, reserved) }, begins: true})
		if j.enrols(m) {
			add(j.enrolAct(m, false))
		}
		add(act{name: step.Clone, input: m.Clone, do: func(ctx, _ context.Context) error { return j.clone(ctx) }})
	}
	if (adjust || j.work.Back) && j.enrols(m) {
		add(j.enrolAct(m, j.work.Again || j.work.Redo))
	}
	restart := contract.Restart(m.Power != machine.StayOn)
	if adjust && j.work.Changes("name") { // which somebody has changed at the site
		add(j.siteAct(step.Rename, []any{m.Name, time.Now()}, func(ctx context.Context) (contract.Task, error) {
			return j.site.Rename(ctx, id, m.Name, j.mark(contract.StageMade), restart)
		}))
	}
	if adjust && j.work.Changes("clone") {
		add(j.siteAct(step.Detach, m.Clone, func(ctx context.Context) (contract.Task, error) { return j.site.Detach(ctx, id) }))
	}
	shape := m.Shape
	if slices.ContainsFunc(j.work.Drift, func(r proof.Reason) bool { return r.Final }) {
		shape.Disk = 0 // as it is, which is more
	}
	reshaped := j.work.Again || slices.ContainsFunc([]string{"cpus", "memory", "disk", "disks"}, j.work.Changes)
	if !shape.IsZero() && (!adjust || reshaped) {
		add(j.siteAct(step.Shape, shape, func(ctx context.Context) (contract.Task, error) { return j.site.Shape(ctx, id, shape, restart) }))
	}
	cards := machine.Cards(m.Adapters)
	if !adjust || rewired || j.work.Changes("link") || j.work.Redo {
		wire := j.siteAct(step.Wire, cards, func(ctx context.Context) (contract.Task, error) { return j.site.Wire(ctx, id, cards, restart) })
		wire.beside = !adjust && !shape.IsZero() // else both may have to shut it down
		add(wire)
	}
	kind := kinds.Of(m.Guest)
	seeds, inClear := !adjust && kind.Reads(), kind.InClear(m.Guest)
	seed := act{name: step.Seed, input: []any{m.Guest, seededOf(m.Adapters)}, do: func(ctx, _ context.Context) error { return j.seed(ctx) }}
	if seeds && !inClear {
		seed.beside = true
		add(seed)
	}
	if !adjust && m.Media != "" {
		add(j.siteAct(step.Insert, m.Media, func(ctx context.Context) (contract.Task, error) { return j.site.Insert(ctx, id, m.Media) }))
	}
	if !adjust && j.carries() {
		add(act{name: step.Carry, input: m.Guest.Carry, do: func(ctx, _ context.Context) error { return j.carry(ctx) }})
	}
	keeps := !adjust || j.work.Changes("checkpoint")
	if keeps && m.KeepsAt(true) {
		add(act{name: step.Checkpoint, input: m.Checkpoint, do: func(ctx, _ context.Context) error { return j.keepAll(ctx, step.Checkpoint) }})
	}
	if seeds && inClear { // for no longer than it must be
		add(seed)
	}
	if adjust {
		add(j.record(contract.StageMade))
	}
	power := j.powerAfter()
	if power != "" {
		var input any = m.Power
		if adjust { // which may have shut it down, and been cut short
			input = []any{m.Power, m.Fingerprint()}
		}
		add(j.siteAct(step.Start, input, func(ctx context.Context) (contract.Task, error) { return j.site.Power(ctx, id, power) }))
	}
	if power == machine.On {
		add(act{name: step.Confirm, input: m.Spec, do: j.confirm})
		if !adjust && (m.Media != "" || j.carries()) {
			add(j.eject())
		}
	}
	if keeps && m.KeepsAt(false) {
		add(act{name: step.Keep, input: m.Checkpoint, do: func(ctx, _ context.Context) error { return j.keepAll(ctx, step.Keep) }})
		if m.Power.Rests() == machine.On && (!adjust || power == machine.On) {
			add(j.up(step.Await, m.Checkpoint))
		}
	}
	if !adjust { // the mark says that it is made only once it is
		add(j.record(contract.StageMade))
	}
	if last := slices.IndexFunc(steps, func(a act) bool { return a.name == step.Start || a.name == step.Seed && inClear }); last >= 0 {
		steps[last].gated = power == machine.On && (!adjust || j.work.Power == machine.Off)
		if j.Unstarted {
			return chain{steps: steps[:last], end: func(context.Context) error { return nil }}
		}
	}
	what, detail, happened := "made", made(j.work), notice.Confirmed
	if adjust {
		what, detail, happened = "changed", j.work.Why(), notice.Changed
	}
	return chain{steps: steps, end: func(ctx context.Context) error {
		if j.Around.Tell != nil && happened == notice.Confirmed {
			if before, err := j.Ledger.WasMade(ctx, m.Key); err != nil {
				return err
			} else if before {
				happened = notice.Remade
			}
		}
		tell := j.notices(happened, m, nil)
		return j.told(tell, j.Ledger.Finish(ctx, j.Run, *m, what, detail, tell...))
	}}
}

// eject is the step that takes the media out once the guest has done its first boot.
func (j *job) eject() act {
	return act{name: step.Eject, input: time.Now(), do: func(ctx, _ context.Context) error {
		if j.work.Machine().Media != "" {
			if err := j.perform(ctx, step.Eject, func(ctx context.Context) (contract.Task, error) { return j.site.Insert(ctx, j.work.Identity, "") }); err != nil {
				return err
			}
		}
		if !j.carries() {
			return nil
		}
		return j.perform(ctx, step.Eject, func(ctx context.Context) (contract.Task, error) {
			return j.site.Carry(ctx, j.work.Identity, contract.Image{})
		})
	}}
}

// acceptChain lists the steps by which ledger and mark say what a machine is already.
func acceptChain(j *job) chain {
	return chain{steps: append([]act{j.reservations(j.Reserved[j.work.Key])}, j.tellAround()...), end: j.changed("accepted")}
}

// tellAround are the steps by which the systems around a made machine, and its mark, say what it is.
func (j *job) tellAround() (steps []act) {
	if j.enrols(j.work.Machine()) {
		steps = append(steps, j.enrolAct(j.work.Machine(), false))
	}
	return append(steps, j.record(contract.StageMade))
}

// changed closes the journal of a made machine that is another by now, and tells that.
func (j *job) changed(what string) func(context.Context) error {
	return func(ctx context.Context) error {
		tell := j.notices(notice.Changed, j.work.Machine(), nil)
		return j.told(tell, j.Ledger.Finish(ctx, j.Run, *j.work.Machine(), what, j.work.Why(), tell...))
	}
}

// made says in the history what was made, with all that it may be looked for by.
func made(w proof.Work) string {
	parts := []string{fmt.Sprintf("%s clone of %s, generation %d", w.Machine().Clone.Kind, w.Machine().Template, w.Generation)}
	if all := machine.AddressWords(w.Adapters); len(all) > 0 {
		parts = append(parts, strings.Join(all, " "))
	}
	for _, a := range w.Adapters {
		parts = append(parts, a.MAC)
	}
	return strings.Join(parts, "; ")
}

// reservations keeps the addresses of a machine that is there.
func (j *job) reservations(reserved []ledger.Reservation) act {
	return act{name: step.Reserve, input: []any{j.work.Adapters, reserved}, do: func(ctx, _ context.Context) error {
		return j.Ledger.Reserve(context.WithoutCancel(ctx), j.work.Key, reserved)
	}}
}

// powerAfter is what the power of a machine is set to at the end; empty if it is left.
func (j *job) powerAfter() machine.Power {
	m := j.work.Machine()
	switch {
	case j.work.Word != proof.Adjust && m.Power.Starts():
		return machine.On // also what is to be off again once it is confirmed
	case j.work.Word != proof.Adjust, j.keepsPower():
		return ""
	}
	return m.Power.Rests()
}

// record stores the mark, and in it how far the machine is.
func (j *job) record(stage contract.Stage) act {
	mark := j.mark(stage)
	return j.siteAct(step.Record, []any{mark.Info, mark.Fingerprint, mark.Stage}, func(ctx context.Context) (contract.Task, error) { return j.site.Record(ctx, j.work.Identity, mark) })
}

// keepsPower reports whether an adjust leaves the power as it is: somebody has turned
// the machine off or on, and nobody has asked to undo that. One that an earlier
// run has shut down, and did not start again, is not left so: its steps are taken again.
func (j *job) keepsPower() bool {
	return !j.work.Changes("power") && !j.work.Again && j.work.Power != "" && j.work.Power != j.work.Machine().Power.Rests()
}

// begin writes that the machine is being made, and where, before anything is.
func (j *job) begin(ctx context.Context, reserved []ledger.Reservation) error {
	durable := context.WithoutCancel(ctx)
	if err := j.Ledger.Begin(durable, j.Run, *j.work.Machine(), j.work.Generation, j.work.Origin, reserved); err != nil {
		return err
	}
	if p := j.work.Place; p != nil {
		return j.Ledger.SetPlace(durable, j.work.Key, p.Host, p.Store)
	}
	return nil
}

// seeded is what a seed says of an adapter. How its card is connected at the site is
// not part of that, and no reason for another seed.
type seeded struct {
	Network, MAC string
	machine.Interface
}

func seededOf(adapters []machine.Adapter) []seeded {
	all := make([]seeded, len(adapters))
	for i, a := range adapters {
		all[i] = seeded{a.Network, a.MAC, a.Interface}
	}
	return all
}

func (j *job) mark(stage contract.Stage) contract.Mark {
	m := j.work.Machine()
	return contract.Mark{Ledger: j.Owner, Key: m.Key.String(), Origin: j.work.Origin, Generation: j.work.Generation, Stage: stage,
		Fingerprint: m.Fingerprint(), Run: j.Run, Folder: m.Clone.Folder, Request: j.Requested.Which(j.work.Key, j.work.Origin), Info: m.Info, Spec: contract.MarkedSpec(m.Spec)}
}

// How often an act is asked for whose task the site has forgotten, or whose task
// has failed, and how long the site is left alone in between.
const (
	mostAsked  = 3
	mostFailed = 2
	retryDelay = 500 * time.Millisecond
)

// perform asks for an act and waits for its real end. A task that the site no
// longer knows (it was restarted) means that nobody knows; the act is asked for
// again, which changes nothing where it was done. One that has failed is tried
// once more: what failed for a cause that lasts fails again, and the time of an
// operator who has to run a batch again is worth more.
func (j *job) perform(ctx context.Context, name step.Name, do atSite) error {
	_, err := j.performTask(ctx, name, do)
	return err
}

// performTask is perform, and returns the task as it ended.
func (j *job) performTask(ctx context.Context, name step.Name, do atSite) (contract.Task, error) {
	return j.performOn(ctx, name, j.work.Identity, do)
}

// performOn is performTask for an act on a clone, which is powered off if it has to be.
func (j *job) performOn(ctx context.Context, name step.Name, id uuid.UUID, do atSite) (contract.Task, error) {
	t, err := j.performOnce(ctx, name, do)
	switch {
	case !errors.Is(err, site.ErrNoShutdown):
		return t, err
	case !j.ForceOff:
		return t, fmt.Errorf("%w; --force-off powers it off", err)
	}
	_, err = j.performOnce(ctx, name, func(ctx context.Context) (contract.Task, error) {
		return j.site.Power(ctx, id, machine.Cut)
	})
	if err != nil {
		return t, fmt.Errorf("power it off: %w", err)
	}
	return j.performOnce(ctx, name, do)
}

// performOnce is perform for a guest that shuts down when asked.
func (j *job) performOnce(ctx context.Context, name step.Name, do atSite) (contract.Task, error) {
	limit := j.Times[j.slotOf(name)]
	if slot := j.slotOf(name); slot == Confirming || slot == Brief {
		limit = j.Times[AnyStep]
	}
	limited, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	for asked := 1; ; asked++ {
		if err := j.Ledger.Current(); err != nil {
			return contract.Task{}, err // another run may be at this machine by now
		}
		t, err := do(limited)
		if err == nil {
			t, err = j.await(limited, name, t)
		}
		switch {
		case t.ID != "" && errors.Is(err, site.ErrNotFound) && asked < mostAsked:
			continue
		case err != nil && ctx.Err() == nil && limited.Err() != nil:
			return t, fmt.Errorf("not finished after %s; check the site, then run the same command again", limit)
		case err != nil:
			return t, err
		case t.State == contract.Failed && (t.Reason == "" || t.Reason == contract.Unreachable) && asked < mostFailed:
			if err := sleep(limited, retryDelay); err != nil {
				return t, err
			}
			continue
		case t.State == contract.Failed:
			return t, site.Failure(t)
		}
		return t, nil
	}
}

// await polls a task until it is settled.
func (j *job) await(ctx context.Context, name step.Name, t contract.Task) (contract.Task, error) {
	if t.Settled() {
		return t, nil
	}
	began := time.Now()
	poll := j.polls(name)
	for {
		j.report(Event{Key: j.work.Key, Step: name, State: Progress, Share: t.Share})
		if err := poll.wait(ctx); err != nil {
			return t, err
		}
		next, err := j.site.Task(ctx, t.ID)
		if err != nil {
			return t, err
		}
		if t = next; t.Settled() {
			j.durations.learn(j.work.Site, name, time.Since(began))
			return t, nil
		}
	}
}

// sleep waits, but not longer than its context; the standard library has no such function.
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
	if j.work.Replaces != uuid.Nil || len(j.lost()) > 0 {
		if err := j.replace(ctx); err != nil {
			return fmt.Errorf("remove the clone that this one replaces: %w", err)
		}
		j.report(Event{Key: j.work.Key, Step: step.Clone, State: Removed})
	}
	m := j.work.Machine()
	order := contract.CloneOrder{Identity: j.work.Identity, Name: m.Name, Clone: m.Clone, Mark: j.mark(contract.StageMaking), Shape: m.Shape, Adapters: machine.Cards(m.Adapters)}
	if p := j.work.Place; p != nil {
		order.Host, order.Store = p.Host, p.Store
	} else if len(j.work.Data) > 0 { // where its data disks are
		was := j.work.Was()
		order.Host, order.Store = cmp.Or(order.Host, was.Host), cmp.Or(order.Store, was.Store)
	}
	t, err := j.performTask(ctx, step.Clone, func(ctx context.Context) (contract.Task, error) { return j.site.Clone(ctx, order) })
	switch {
	case err != nil:
		return fmt.Errorf("from %s: %w", m.Clone.Template, err)
	case j.work.Place != nil:
		return nil // it is written down already where the machine is
	case t.Host != "" && t.Store != "":
		return j.Ledger.SetPlace(context.WithoutCancel(ctx), m.Key, t.Host, t.Store)
	}
	made, err := j.site.Machine(ctx, j.work.Identity)
	if err != nil {
		return err
	}
	return j.Ledger.SetPlace(context.WithoutCancel(ctx), m.Key, made.Host, made.Store)
}

// goes says what becomes of the disks that were made for the clone which is replaced.
func (j *job) goes() contract.Disks {
	if slices.Contains(j.work.Data, j.work.Replaces) {
		return contract.KeepData
	}
	return contract.DeleteDisks
}

// lost are the identities of clones before the one that is replaced, of which data disks go
// with that.
func (j *job) lost() []uuid.UUID {
	return distinct(j.work.Lost, func(id uuid.UUID) bool { return slices.Contains(j.work.Data, id) })
}

// replace removes the clone that this one replaces, and the data disks that it had from others.
func (j *job) replace(ctx context.Context) error {
	disks := contract.DeleteDisks
	if j.work.KeepsLost {
		disks = contract.KeepDisks
	}
	if j.work.Replaces == uuid.Nil { // which is gone
		return j.removeData(ctx, step.Clone, j.lost(), disks)
	}
	if err := j.removeOld(ctx); err != nil {
		return err
	}
	if err := j.removeData(ctx, step.Clone, j.lost(), disks); err != nil {
		return err
	}
	return j.Ledger.Replacing(context.WithoutCancel(ctx), j.work.Key, ledger.RemovalDone)
}

// removeOld removes the clone that this one replaces. That the site is asked is
// written down first: after that, the clone may not be whole. What the new clone's
// seed needs is made before.
func (j *job) removeOld(ctx context.Context) error {
	durable := context.WithoutCancel(ctx)
	if kinds.Of(j.work.Machine().Guest).Reads() {
		if _, _, err := j.makeSeed(); err != nil {
			return fmt.Errorf("its new clone cannot be made: %w", err)
		}
	}
	if j.goes() == contract.KeepData { // what its guest has not written yet is part of the data
		_, err := j.performOn(ctx, step.Clone, j.work.Replaces, func(ctx context.Context) (contract.Task, error) {
			return j.site.Power(ctx, j.work.Replaces, machine.Off)
		})
		if err != nil && !errors.Is(err, site.ErrNotFound) {
			return err
		}
	}
	if err := j.Ledger.Replacing(durable, j.work.Key, ledger.RemovalAsked); err != nil {
		return err
	}
	err := j.perform(ctx, step.Clone, func(ctx context.Context) (contract.Task, error) {
		return j.site.Remove(ctx, j.work.Replaces, j.goes())
	})
	if errors.Is(err, site.ErrRefused) {
		return errors.Join(err, j.Ledger.Replacing(durable, j.work.Key, ledger.RemovalRefused))
	}
	return err
}
