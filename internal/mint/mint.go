package mint

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
	"mintbatch/internal/plan"
	"mintbatch/internal/run"
)

// Minting is the task of a plan: to make its machines what their rows say. What the work
// needs is made sure to be at hand.
func (d *Desk) Minting(ctx context.Context, command string, p *plan.Plan, remakes plan.Remakes, o Order) (Task, error) {
	t := Task{Command: command, Order: o, plan: p, do: (*run.Engine).Mint}
	t.Works, t.Refused = p.Todo(remakes)
	if !o.Waves.IsZero() {
		t.Works = p.Sorted(t.Works) // no wave waits for a later one
	}
	return t, d.ready(ctx, t)
}

// ready ensures, before anything is asked or done, that what the work needs is at
// hand: the keys by which secrets are opened and sealed, and everything that goes on
// a seed. What is removed for a successor must have one.
func (d *Desk) ready(ctx context.Context, t Task) error {
	sealing := d.Vault.Sealing(ctx)
	opened := map[string]bool{}
	for _, w := range t.Works {
		if w.Word == proof.Adjust || !kinds.Of(w.Spec().Guest).Reads() {
			continue
		}
		if _, err := sealing.Authority(); err != nil {
			return err
		}
		for _, name := range w.Spec().Guest.Sealed() {
			if opened[name] {
				continue
			}
			value, err := sealing.Open(name)
			if err != nil {
				return fmt.Errorf("%s needs the sealed value %s: %w", w.Name, name, err)
			}
			if g := w.Spec().Guest; kinds.Of(g).Accounts && g.Licence == "secret:"+name {
				if err := machine.CheckProductKey(strings.TrimSpace(value)); err != nil {
					return fmt.Errorf("the sealed value %s, which is the licence of %s: %w", name, w.Name, err)
				}
			}
			opened[name] = true
		}
		if t.Order.KeepHostKey && w.Word == proof.Remake {
			if _, err := d.Vault.Unseal(ctx, w.Key, run.SealedHostKey); err != nil && !errors.Is(err, ledger.ErrNoSecret) {
				return fmt.Errorf("cannot keep the SSH host key of %s: %w", w.Name, err)
			}
		}
	}
	return nil
}
