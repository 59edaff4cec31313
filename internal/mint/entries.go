package mint

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/enrol"
	"mintbatch/internal/ledger"
)

// enteredOf is what the machines of works have in the systems around them. Of a few only theirs is read.
func (d *Desk) enteredOf(ctx context.Context, works []proof.Work) (map[machine.Key]entry.Entered, error) {
	var names []string
	if len(works) <= fewNames {
		for _, w := range works {
			names = append(names, w.Name)
		}
	}
	return d.Ledger.AllEntered(ctx, names...)
}

// verifyEntries adds to the verdicts of machines in what their entries in the systems around them are not as they were entered.
func (d *Desk) verifyEntries(ctx context.Context, verdicts []Verdict) error {
	entered, err := d.Ledger.AllEntered(ctx)
	if err != nil || len(entered) == 0 {
		return err
	}
	bySystem := map[string][]checked{}
	for i, v := range verdicts {
		had := entered[v.Key]
		for _, item := range had.Items {
			bySystem[item.System] = append(bySystem[item.System], checked{i, item, had.Owner})
		}
	}
	for _, system := range slices.Sorted(maps.Keys(bySystem)) {
		of := bySystem[system]
		said, err := d.checkEntries(ctx, system, of)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		told := map[machine.Key]bool{}
		for k, c := range of {
			v := &verdicts[c.of]
			if err != nil && !told[v.Key] {
				told[v.Key] = true
				v.add(fmt.Sprintf("%s: %s", system, err))
			}
			if err == nil && len(said[k]) > 0 {
				v.add(fmt.Sprintf("%s: %s: %s", system, c.item.Name, strings.Join(said[k], ", ")))
			}
		}
	}
	return nil
}

// checked is an item of the machine of a verdict.
type checked struct {
	of    int
	item  entry.Item
	owner entry.Owner
}

// add adds a reason why a machine is not as asked.
func (v *Verdict) add(why string) {
	v.OK = false
	v.Why = strings.TrimPrefix(v.Why+"; "+why, "; ")
}

// checkEntries says of each item in what a system differs.
func (d *Desk) checkEntries(ctx context.Context, system string, of []checked) ([][]string, error) {
	s, err := d.Around.System(system)
	if err != nil {
		return nil, err
	}
	items, names := make([]entry.Item, len(of)), make([]string, len(of))
	for k, c := range of {
		items[k], names[k] = c.item, c.item.Name
	}
	seen, err := s.Look(ctx, names)
	if err != nil {
		return nil, err
	}
	said := make([][]string, len(of))
	for k, c := range of {
		said[k] = c.item.Differs(seen[k], c.owner)
	}
	several, ok := s.(enrol.Checker)
	if !ok {
		return said, nil
	}
	others, err := several.Check(ctx, items)
	for k := range others {
		if len(said[k]) == 0 { // else they have it from the first
			said[k] = others[k]
		}
	}
	return said, err
}

// recoverEntries takes into the ledger what stands for its machines in the systems around them under its mark. What a system that
// does not answer has is left as the ledger has it; the next mint enters what is missing.
func (d *Desk) recoverEntries(ctx context.Context) error {
	known, err := d.Ledger.Machines(ctx)
	if err != nil {
		return err
	}
	entered, err := d.Ledger.AllEntered(ctx)
	if err != nil {
		return err
	}
	for _, k := range known {
		had := entered[k.Key]
		items := entry.Union(had, d.Setup.Entries(&machine.Machine{Key: k.Key, Spec: k.Spec()}, k.HostKey)).Items
		if len(items) == 0 {
			continue
		}
		found, answered, err := d.findEntries(ctx, k, items)
		if err == nil && answered {
			err = d.Ledger.PutEntered(ctx, k.Key, found)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// findEntries tells what of some items stands under the mark of a machine, or of a name that it had. All of it counts as entered: what
// runs have entered of which the ledger does not know cannot be told from what others have added, and the next proof shows what it
// would take out. The name of an address that is marked for the same machine is one that it was to get by such a run.
func (d *Desk) findEntries(ctx context.Context, k ledger.Machine, items []entry.Item) (found entry.Entered, answered bool, err error) {
	looked := map[string]bool{}
	for len(items) > 0 {
		item := items[0]
		items = items[1:]
		if looked[item.System+" "+item.Name] {
			continue
		}
		looked[item.System+" "+item.Name] = true
		seen, err := d.lookOne(ctx, item)
		if err != nil {
			return found, false, ctx.Err()
		}
		owner, ours := d.isOf(k, seen)
		if !ours {
			continue
		}
		for _, v := range seen.Values {
			if name, is := strings.CutPrefix(v, "PTR "); is {
				items = append(items, entry.Item{System: item.System, Name: name})
			}
		}
		found.Owner = owner
		found.Items = append(found.Items, entry.Item{System: item.System, Name: item.Name, Values: seen.Values})
	}
	return found, true, nil
}

func (d *Desk) lookOne(ctx context.Context, item entry.Item) (entry.Seen, error) {
	s, err := d.Around.System(item.System)
	if err != nil {
		return entry.Seen{}, err
	}
	seen, err := s.Look(ctx, []string{item.Name})
	if err != nil {
		return entry.Seen{}, err
	}
	return seen[0], nil
}

// isOf reports whether something is marked for a machine, by whichever of its names.
func (d *Desk) isOf(k ledger.Machine, seen entry.Seen) (entry.Owner, bool) {
	owner, is := entry.ParseOwner(seen.Owner)
	return owner, is && owner.Ledger == d.Ledger.ID && owner.Site == k.Site && slices.Contains(k.Names(k.Key), owner.Name)
}
