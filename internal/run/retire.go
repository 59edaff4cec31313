package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/notice"
	"mintbatch/internal/core/step"
	"mintbatch/internal/ledger"
	"mintbatch/internal/site"
)

// retireChain deletes a machine at its site, and at the end from the ledger. Interrupted
// in between, it finds the machine gone and forgets it the next time. A clone that an
// open remake was to replace is deleted as well.
func retireChain(j *job) chain {
	c := chain{end: j.forget, fail: func(ctx context.Context, err error) error {
		entry := ledger.Step{Key: j.work.Key, Generation: j.work.Generation, Step: string(step.Remove), Run: j.Run, Error: err.Error()}
		return j.Ledger.Fail(ctx, entry, "not retired")
	}}
	if !j.Around.Leave && j.work.Slim != nil && j.enrols(j.work.Machine()) {
		c.steps = append(c.steps, j.withdrawAct())
	}
	for _, one := range j.clones() {
		c.steps = append(c.steps, j.removal(one)...)
	}
	if data := j.handedOn(); len(data) > 0 {
		c.steps = append(c.steps, act{name: step.Remove, ends: true, do: func(ctx, _ context.Context) error { return j.removeData(ctx, step.Remove, data, j.Disks) }})
	}
	c.steps[0].gated = true
	return c
}

// stopChain shuts a machine down in an orderly way and leaves it there.
func stopChain(j *job) chain {
	stop := j.stopAct(step.Stop, j.work.Identity)
	stop.gated = true
	return chain{steps: []act{stop}, end: func(context.Context) error { return nil }}
}

// clone is a generation of a machine at its site.
type clone struct {
	id         uuid.UUID
	generation int
}

// clones are those of which something may be at the site.
func (j *job) clones() []clone {
	all := []clone{{j.work.Identity, j.work.Generation}}
	if e := j.work.Earlier; e != nil && e.Generation > 0 {
		all = append(all, clone{e.Identity(j.Owner, j.work.Key, e.Generation), e.Generation})
	}
	for _, r := range j.work.Rests {
		all = append(all, clone{r.Identity, r.Generation})
	}
	return all
}

// handedOn are the identities of clones that are gone, for which data disks were made that this
// machine has, or was to have.
func (j *job) handedOn() []uuid.UUID {
	data := slices.Clone(j.work.Data)
	if e := j.work.Earlier; e != nil {
		data = append(data, e.Data...)
	}
	return distinct(data, func(id uuid.UUID) bool {
		return slices.ContainsFunc(j.clones(), func(c clone) bool { return c.id == id })
	})
}

// distinct lists each identity once, without those for which but reports true.
func distinct(all []uuid.UUID, but func(uuid.UUID) bool) []uuid.UUID {
	var some []uuid.UUID
	for _, id := range all {
		if id != uuid.Nil && !slices.Contains(some, id) && !but(id) {
			some = append(some, id)
		}
	}
	return some
}

// stopAct is the step that shuts a machine down. It stays in the journal until the
// machine is started, so that it is known who did so.
func (j *job) stopAct(limit step.Name, id uuid.UUID) act {
	return act{name: step.Stop, input: time.Now(), do: func(ctx, _ context.Context) error {
		return j.perform(ctx, limit, func(ctx context.Context) (contract.Task, error) { return j.site.Power(ctx, id, machine.Off) })
	}}
}

// removal is the steps that shut down and delete one generation of a machine. Of a
// machine that is still there, the journal reports whether it was shut down, or may be
// incomplete.
func (j *job) removal(of clone) []act {
	id := of.id
	var find sync.Once
	var there *contract.Machine // nil if it is gone; a clone that was cut short may have left something
	var failed error
	look := func(ctx context.Context) (*contract.Machine, error) {
		find.Do(func() { there, failed = j.owned(ctx, id) })
		return there, failed
	}
	stop := j.stopAct(step.Remove, id)
	stop.unless = func(ctx context.Context) (bool, error) {
		m, err := look(ctx)
		return err != nil || m == nil || m.Power != machine.On, nil // remove says why it is refused
	}
	// A guest that does not shut down is not waited for longer when its disks go anyway.
	stop.despite = func(err error) bool { return j.Disks != contract.KeepDisks && errors.Is(err, site.ErrNoShutdown) }
	remove := act{name: step.Remove, ends: true}
	remove.unless = func(ctx context.Context) (bool, error) {
		m, err := look(ctx)
		if err != nil {
			return false, err
		}
		return false, j.beforeRemoval(ctx, m, of.generation)
	}
	remove.do = func(ctx, _ context.Context) error {
		return j.perform(ctx, step.Remove, func(ctx context.Context) (contract.Task, error) { return j.site.Remove(ctx, id, j.Disks) })
	}
	return []act{stop, remove}
}

// removeData deletes data disks that were made for clones which are gone, or keeps them for
// good, which is written down first. Those that were kept for good before stay so.
func (j *job) removeData(ctx context.Context, during step.Name, of []uuid.UUID, disks contract.Disks) error {
	for _, id := range of {
		data := j.keptData(id)
		if disks == contract.KeepDisks {
			if err := j.Ledger.KeepDisks(context.WithoutCancel(ctx), data); err != nil {
				return err
			}
		}
		remove := func(disks contract.Disks) error {
			return j.perform(ctx, during, func(ctx context.Context) (contract.Task, error) { return j.site.Remove(ctx, id, disks) })
		}
		err := remove(disks)
		if disks != contract.KeepDisks && errors.Is(err, site.ErrRefused) {
			kept, asked := j.Ledger.WasKept(ctx, data.Key, data.Generation)
			if asked != nil {
				return asked
			}
			if kept {
				err = remove(contract.KeepDisks)
			}
		}
		if err != nil {
			return fmt.Errorf("its data disks: %w", err)
		}
	}
	return nil
}

// keptData are data disks that are kept, of a clone that is gone, under whatever name it was made.
func (j *job) keptData(id uuid.UUID) ledger.Kept {
	for _, name := range j.work.Names(j.work.Key) {
		key := machine.Key{Site: j.work.Site, Name: name}
		if generation := machine.GenerationOf(j.Owner, key, id); generation > 0 {
			return ledger.Kept{Key: key, Generation: generation, Run: j.Run}
		}
	}
	return ledger.Kept{Key: j.work.Key, Generation: j.work.Generation, Run: j.Run}
}

// owned finds a machine at its site; nil if it is gone. One that does not carry this
// ledger's mark is refused.
func (j *job) owned(ctx context.Context, id uuid.UUID) (*contract.Machine, error) {
	m, err := j.site.Machine(ctx, id)
	switch {
	case errors.Is(err, site.ErrNotFound):
		return nil, nil
	case err != nil:
		return nil, err
	case m.Mark == nil || m.Mark.Ledger != j.Owner || m.Mark.Key != j.work.Key.String() && !j.work.BeingRenamed:
		return nil, fmt.Errorf("%w: the machine at the site does not carry this ledger's mark", site.ErrRefused)
	}
	return m, nil
}

// beforeRemoval gives back the addresses that a machine which is gone has left behind,
// and writes down which disks stay of one that is there.
func (j *job) beforeRemoval(ctx context.Context, there *contract.Machine, generation int) error {
	if keeper, ok := j.site.(site.LeaseKeeper); ok && there == nil && j.work.Slim != nil {
		return keeper.DropLeases(ctx, j.work.Name, machine.Cards(j.work.Adapters))
	}
	if there != nil && j.Disks == contract.KeepDisks {
		for _, id := range j.handedOn() {
			if err := j.Ledger.KeepDisks(context.WithoutCancel(ctx), j.keptData(id)); err != nil {
				return err
			}
		}
		return j.Ledger.KeepDisks(context.WithoutCancel(ctx), ledger.Kept{Key: j.work.Key, Generation: generation, Disks: there.Files, Run: j.Run})
	}
	return nil
}

// forget removes the machine from the ledger. Its addresses cool down.
func (j *job) forget(ctx context.Context) error {
	until := map[string]time.Time{}
	for network, d := range j.Cooling {
		if d > 0 {
			until[network] = time.Now().Add(d)
		}
	}
	tell := j.notices(notice.Retired, j.work.Machine(), nil)
	return j.told(tell, j.Ledger.Forget(ctx, j.Run, j.work.Key, until, j.Disks, tell...))
}
