package mint

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
	"mintbatch/internal/run"
)

// ErrRename means that what was asked for is no new name for one machine.
var ErrRename = errors.New("it cannot be renamed")

// Renaming is the task of giving a machine, NAME or SITE/NAME, another name. Its disks,
// addresses and MAC addresses stay.
func (d *Desk) Renaming(ctx context.Context, from, to string, o Order) (Task, error) {
	site, name, ok := strings.Cut(from, "/")
	if !ok {
		site, name = "", from
	}
	o.NewName = to
	command := proof.Renaming(strings.ToLower(name), to) // the same one, however the machine is called
	t := Task{Command: command, Order: o, do: (*run.Engine).Rename, up: true}
	if err := machine.CheckLabel(to); err != nil {
		return t, fmt.Errorf("%w to %q: %w", ErrRename, to, err)
	}
	if strings.ContainsAny(name, "*?[") {
		return t, fmt.Errorf("%w: one at a time, by its name and not by a pattern", ErrRename)
	}
	works, refused, err := d.everyday(ctx, t.Command, []string{name}, func(k *proof.Known) bool {
		return k.State == proof.Made && k.Open.By(t.Command) && !k.Open.Has(step.Remove)
	})
	if err != nil {
		return t, err
	}
	elsewhere := func(w proof.Work) bool { return site != "" && !strings.EqualFold(w.Site, site) }
	for _, w := range append(works, refused...) {
		switch {
		case elsewhere(w):
		case len(t.Works)+len(t.Refused) > 0:
			return t, fmt.Errorf("%w: several sites have a machine %s: give SITE/%s", ErrRename, name, name)
		case w.Refusal != "":
			t.Refused = append(t.Refused, w)
		default:
			t.Works = append(t.Works, w)
		}
	}
	if len(t.Works)+len(t.Refused) == 0 {
		return t, fmt.Errorf("%w: site %s has no machine %s", ErrRename, site, name)
	}
	known, err := d.Ledger.Machines(ctx)
	for _, k := range known {
		for _, w := range t.Works {
			if k.Site == w.Site && strings.EqualFold(k.Name, to) {
				return t, fmt.Errorf("%w: the ledger has a machine %s already; choose another name", ErrRename, k.Key)
			}
		}
	}
	for _, w := range t.Works {
		if g := w.Spec().Guest; g.Joins != "" && strings.EqualFold(g.Hostname, w.Name) {
			return t, fmt.Errorf("%w: its guest is in the domain %s under the name %s; make a machine of the new name and retire this one", ErrRename, g.Joins, g.Hostname)
		}
		err = errors.Join(err, d.entriesFree(ctx, w, to))
	}
	return t, err
}

// entriesFree refuses a new name that others have in the systems around a machine, as far as these answer.
func (d *Desk) entriesFree(ctx context.Context, w proof.Work, to string) error {
	entered, err := d.Ledger.Entered(ctx, w.Key)
	if err != nil {
		return err
	}
	renamed := *w.Machine()
	if renamed.Name = to; strings.EqualFold(renamed.Guest.Hostname, w.Name) {
		renamed.Guest.Hostname = strings.ToLower(to)
	}
	owner := entry.Owner{Ledger: d.Ledger.ID, Key: renamed.Key}
	for _, c := range entry.Changes(entered, d.Setup.Entries(&renamed, ""), owner) {
		seen, err := d.lookOne(ctx, entry.Item{System: c.System, Name: c.Name})
		if err != nil {
			return ctx.Err() // the step says so
		}
		if _, err := c.Judge(seen); errors.Is(err, entry.ErrForeign) { // what an earlier attempt has entered is ours
			return fmt.Errorf("%w to %q: %s: %w", ErrRename, to, c.System, err)
		}
	}
	return nil
}

// RenameQuestion asks before that.
func (t Task) RenameQuestion() Question {
	if len(t.Works) == 0 {
		return Question{}
	}
	return Question{Text: fmt.Sprintf("Rename %s to %s (a site that cannot do that while it runs restarts it)?", t.Works[0].Name, t.Order.NewName), Word: "yes"}
}

// Renamed is what is left to do by hand after a machine was renamed.
type Renamed struct {
	// Guest is the host name that its guest still has; empty if it has the new one.
	Guest string
	// InSheet reports that the sheet still has a row of the old name.
	InSheet bool
}

// AfterRename looks what is left to do by hand.
func (d *Desk) AfterRename(ctx context.Context, t Task, sheet func() map[string]bool) (Renamed, error) {
	from := t.Works[0]
	known, err := d.Ledger.MachinesNamed(ctx, []string{t.Order.NewName})
	var left Renamed
	for _, k := range known {
		if k.Site == from.Site && strings.EqualFold(k.Spec().Guest.Hostname, from.Name) {
			left.Guest = k.Spec().Guest.Hostname
		}
	}
	if rows := sheet(); rows != nil {
		left.InSheet = rows[strings.ToLower(from.Name)]
	}
	return left, err
}
