package plan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/column"
	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
)

// around adds to a plan what is to be entered in the systems around the machines: of those that are yet to be made, and of made
// ones for which the ledger has something else. If the systems may be contacted, names that others have there are refused.
func (p *Planner) around(ctx context.Context, plan *Plan, known []ledger.Machine, r Request) error {
	entered, err := p.Ledger.AllEntered(ctx)
	if err != nil || len(entered) == 0 && !p.Setup.Enters() {
		return err
	}
	keys := map[machine.Key]string{}
	for _, k := range known {
		keys[k.Key] = k.HostKey
	}
	var changed []*proof.Work
	wants := map[machine.Key][]entry.Item{}
	for i := range plan.Works {
		w := &plan.Works[i]
		if w.Slim == nil || w.Refusal != "" || w.Word == proof.Taken || w.Word == proof.Stray {
			continue
		}
		had := entered[w.Key]
		want := entry.KeepFingerprints(p.Setup.Entries(w.Machine(), keys[w.Key]), had, keys[w.Key])
		wants[w.Key] = want
		same := entry.Same(had, want, entry.Owner{Ledger: p.Ledger.ID, Key: w.Key})
		switch {
		case w.Word == proof.New || w.Word == proof.Remake:
			w.Entries = want
		case same:
			continue
		default:
			w.Entries = entry.Missing(want, had.Items)
			reason := proof.Reason{Field: "enrol", From: summary(had.Items, want), To: summary(want, had.Items)}
			if reason.From+reason.To == "" {
				reason = proof.Reason{Text: "its entries were being changed, and may be incomplete"}
			}
			w.Enrol(reason)
		}
		if len(w.Entries) > 0 {
			changed = append(changed, w)
		}
	}
	if r.Contact == Offline {
		return nil
	}
	if err := p.refuse(p.foreignEntries(ctx, plan, changed, entered, wants, keys)); err != nil || r.Entries == TrustEntries {
		return err
	}
	return p.entryDrift(ctx, plan, entered)
}

// summary writes those values of items that others do not have.
func summary(items, others []entry.Item) string {
	var all []string
	for _, i := range entry.Missing(items, others) {
		all = append(all, i.Name+" "+strings.Join(i.Values, " "))
	}
	return strings.Join(all, ", ")
}

// lookAll looks at items in their systems, by their place among them. Systems that give no answer are told once each.
func (p *Planner) lookAll(ctx context.Context, items []entry.Item, silent func(system string, err error)) map[int]entry.Seen {
	bySystem := map[string][]int{}
	for i, item := range items {
		bySystem[item.System] = append(bySystem[item.System], i)
	}
	seen := map[int]entry.Seen{}
	for _, name := range slices.Sorted(maps.Keys(bySystem)) {
		places := bySystem[name]
		names := make([]string, len(places))
		for k, i := range places {
			names[k] = items[i].Name
		}
		s, err := p.Around.System(name)
		if err != nil {
			silent(name, err)
			continue
		}
		all, err := s.Look(ctx, names)
		if err != nil {
			silent(name, err)
			continue
		}
		for k, i := range places {
			seen[i] = all[k]
		}
	}
	return seen
}

// foreignEntries finds the names that are to be entered and that others have.
func (p *Planner) foreignEntries(ctx context.Context, plan *Plan, works []*proof.Work, entered map[machine.Key]entry.Entered, wants map[machine.Key][]entry.Item, known map[machine.Key]string) (found finding.List, err error) {
	var items []entry.Item
	var of []*proof.Work
	for _, w := range works {
		for _, item := range w.Entries {
			items, of = append(items, item), append(of, w)
		}
	}
	seen := p.lookAll(ctx, items, func(system string, err error) {
		plan.Warnings.Add(finding.Finding{Severity: finding.Warning, Code: "cannot-look", At: p.Setup.SystemAt(system), Value: system,
			Message: fmt.Sprintf("what others have entered in %s is not known: %s", system, err), Hint: "`mintbatch mint` will fail for the machines that are entered there until it answers"})
	})
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	wanted := p.ByKey()
	for i, item := range items {
		s, looked := seen[i]
		if !looked {
			continue
		}
		had := entered[of[i].Key]
		_, err := entry.Change{Name: item.Name, Want: item.Values, Was: had.Owner, Next: had.Next, Owner: entry.Owner{Ledger: p.Ledger.ID, Key: of[i].Key}}.Judge(s)
		var foreign *entry.Foreign
		if !errors.As(err, &foreign) {
			continue
		}
		if other, ours := foreign.OtherOf(p.Ledger.ID); !ours || !gives(entered[other], wants, other, item) {
			hint := "remove that entry if nobody needs it, or choose another name or address; it is left unchanged"
			if _, is := known[other]; ours && !is {
				hint = fmt.Sprintf("the ledger has no machine %s any more: if its site has none either, remove the entry and its mark; or choose another name or address", other)
			} else if ours && other.Name == of[i].Name {
				hint = fmt.Sprintf("a machine does not move to another site: write %s into its row, or `mintbatch retire %s` first, or choose another name", other.Site, other)
			} else if ours {
				hint = fmt.Sprintf("choose another name or address; `mintbatch rename %s %s` if it is the same machine, `mintbatch retire %[1]s` if it is to go", other, of[i].Name)
			}
			code := "name-in-dns"
			switch {
			case p.Setup.IsDirectory(item.System):
				code = "account-exists"
			case strings.Contains(item.System, "/"): // of a pool
				code = "address-in-use"
			}
			found.Add(finding.Finding{Code: code, At: originOf(wanted[of[i].Key], item).At, Value: item.Name,
				Message: fmt.Sprintf("%s: %s", item.System, err), Hint: hint})
		}
	}
	return found, nil
}

// gives reports whether a machine has an item that it is not to have any more once the works are done.
func gives(has entry.Entered, wants map[machine.Key][]entry.Item, key machine.Key, item entry.Item) bool {
	want, stays := wants[key]
	return stays && entry.Find(has.Items, item) >= 0 && entry.Find(want, item) < 0
}

// originOf finds the cell that an item comes from.
func originOf(w *batch.Wanted, item entry.Item) batch.Origin {
	kind, _, _ := strings.Cut(item.Values[0], " ")
	_, err := netip.ParseAddr(item.Name)
	switch {
	case kind == "CNAME":
		return w.Origin("aliases")
	case kind == "PTR", err == nil:
		for i, a := range w.Adapters {
			for _, p := range a.Given() {
				if entry.ReverseName(p.Addr()) == item.Name || p.Addr().String() == item.Name {
					if o := w.Origin(column.ID("address", i+1)); !o.At.IsZero() {
						return o
					}
				}
			}
		}
	case w.Origin("hostname").Value != "":
		return w.Origin("hostname")
	}
	return w.Origin("machine")
}

// entryDrift adds to the works of made machines what of their entries is missing.
func (p *Planner) entryDrift(ctx context.Context, plan *Plan, entered map[machine.Key]entry.Entered) error {
	var items []entry.Item
	var of []*proof.Work
	for i := range plan.Works {
		w := &plan.Works[i]
		if w.Word == proof.Same || w.Word == proof.Dated || w.Word == proof.Adjust {
			for _, item := range entered[w.Key].Items {
				items, of = append(items, item), append(of, w)
			}
		}
	}
	seen := p.lookAll(ctx, items, func(string, error) {}) // which a step will tell
	for i, item := range items {
		s, looked := seen[i]
		if !looked {
			continue
		}
		for _, v := range item.Values {
			if !slices.Contains(s.Values, v) {
				of[i].Drift = append(of[i].Drift, proof.Reason{Field: "enrol", From: item.Name + " " + v, To: ""})
			}
		}
	}
	return ctx.Err()
}

// addBooks adds to what others have the addresses that they have reserved in the address books of pools. Of a book that does not
// answer nothing is known.
func (p *Planner) addBooks(ctx context.Context, others *foreign) (warnings finding.List) {
	for _, pool := range slices.Sorted(maps.Keys(p.Setup.Books())) {
		taken, err := p.Around.Taken(ctx, pool)
		if err != nil {
			warnings.Add(finding.Finding{Severity: finding.Warning, Code: "cannot-look", At: p.Setup.SystemAt(pool), Value: pool,
				Message: fmt.Sprintf("which addresses of pool %s others have is not known: %s", pool, err), Hint: "`mintbatch mint` will fail for new machines of the pool until the address book answers"})
			continue
		}
		network, _, _ := strings.Cut(pool, "/")
		for _, r := range taken {
			if o, is := entry.ParseOwner(r.ID); is && o.Ledger == p.Ledger.ID {
				continue // which the ledger knows itself
			}
			others.addresses = append(others.addresses, address.Reservation{Network: network, Addr: r.Address, Standing: address.Seen, Note: cmp.Or(r.Name, r.ID, "the address book")})
		}
	}
	return warnings
}
