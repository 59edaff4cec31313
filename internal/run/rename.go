package run

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/notice"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
	"mintbatch/internal/site"
)

// Rename gives machines another name, in the same manner as Mint.
func (e *Engine) Rename(ctx, stop context.Context, works []proof.Work) []Result {
	return e.runAll(ctx, stop, works, path{renameChain, false})
}

// renameChain gives a machine its new name at its site, then in its guest where that can be
// told, and at the end in the ledger.
func renameChain(j *job) chain {
	id, from := j.work.Identity, j.work.Key
	to := *j.work.Machine()
	to.Name = j.NewName
	restart := contract.Restart(to.Power != machine.StayOn)
	mark := func() contract.Mark {
		mark := j.mark(contract.StageMade)
		mark.Key, mark.Origin = to.Key.String(), j.work.Renamed(from.Name, to.Name)
		mark.Fingerprint, mark.Spec = to.Fingerprint(), contract.MarkedSpec(to.Spec)
		return mark
	}
	rename := j.siteAct(step.Rename, time.Now(), func(ctx context.Context) (contract.Task, error) {
		return j.site.Rename(ctx, id, to.Name, mark(), restart)
	})
	rename.undone = "not renamed"
	rename.unless = func(ctx context.Context) (bool, error) { // what does not exist is not half renamed afterwards
		_, err := j.site.Machine(ctx, id)
		if errors.Is(err, site.ErrNotFound) {
			err = fmt.Errorf("it no longer exists at the site, so there is nothing to rename: `mintbatch mint` makes it again, under the name that its row has")
		}
		return false, err
	}
	steps := []act{
		rename,
		j.siteAct(step.Wire, time.Now(), func(ctx context.Context) (contract.Task, error) {
			return j.site.Wire(ctx, id, machine.Cards(to.Adapters), restart)
		}),
	}
	if to.Power.Rests() == machine.On && j.work.LeftOff == "" {
		steps = append(steps, j.startActs()...)
		if strings.EqualFold(to.Guest.Hostname, from.Name) { // it has its name from the machine
			steps = append(steps, act{name: step.Tell, input: time.Now(), do: func(ctx, _ context.Context) error {
				hostname := strings.ToLower(to.Name)
				told, err := j.tellName(ctx, hostname, to.Guest)
				if told {
					to.Guest.Hostname = hostname
				}
				return err
			}}, j.siteAct(step.Record, time.Now(), func(ctx context.Context) (contract.Task, error) { return j.site.Record(ctx, id, mark()) }))
		}
	}
	if j.enrols(&to) {
		steps = append(steps, j.enrolAct(&to, true))
	}
	return chain{steps: steps, end: func(ctx context.Context) error {
		tell := j.notices(notice.Changed, &to, nil)
		if err := j.told(tell, j.Ledger.Rename(ctx, j.Run, from, to, tell...)); err != nil {
			return fmt.Errorf("rename it in the ledger: %w", err)
		}
		return nil
	}}
}

// tellName tells the guest its host name, and reports whether it has it then. A guest that
// cannot be told keeps the one that it has.
func (j *job) tellName(ctx context.Context, hostname string, g machine.Guest) (told bool, err error) {
	teller, ok := j.site.(site.Teller)
	if !ok {
		return false, nil
	}
	g.Hostname = hostname
	err = j.perform(ctx, step.Tell, func(ctx context.Context) (contract.Task, error) {
		return teller.TellName(ctx, j.work.Identity, hostname, g.FQDN())
	})
	if errors.Is(err, site.ErrRefused) || errors.Is(err, site.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	m, err := j.site.Machine(ctx, j.work.Identity)
	if err != nil {
		return false, err
	}
	return m.Report != nil && strings.EqualFold(m.Report.Hostname, hostname), nil
}
