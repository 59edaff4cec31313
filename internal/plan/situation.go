package plan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/assign"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
	"mintbatch/internal/ledger"
	"mintbatch/internal/site"
	"mintbatch/internal/sites"
)

// Compare gives out the addresses and computes the work. Sites that were not
// asked are taken to have what the ledger says; others are asked for nothing but
// the addresses that are in use there.
func (p *Planner) Compare(ctx context.Context, known []ledger.Machine, asked, others sites.Surveys, missing Missing, keep func(machine.Key) bool) (*Plan, error) {
	if err := p.refuse(p.newLedger(ctx, known, asked)); err != nil {
		return nil, err
	}
	if err := p.askRenamed(ctx, known, asked); err != nil {
		return nil, err
	}
	foreign := p.foreign(known, asked, others)
	var warnings finding.List
	if asked != nil {
		warnings = p.addBooks(ctx, foreign)
	}
	past, err := Past(ctx, p.Ledger, known, foreign)
	if err != nil {
		return nil, err
	}
	past.Named = p.Named
	find := finder(known)
	p.inheritFromMade(find, asked)
	p.newestVersions(find, asked)
	reserved, found := assign.Addresses(p.Wanted, p.Setup, past)
	order, wrong := Sequence(p.Batch, known)
	claimed, err := p.Ledger.Claimed(ctx)
	if err != nil {
		return nil, err
	}
	quotas := NewQuotas(p.Batch, known, claimed, keep)
	if err := p.refuse(slices.Concat(found, wrong, quotas.Findings), nil); err != nil {
		return nil, err
	}
	plan := &Plan{quotas: quotas, Warnings: warnings, batch: p.Batch, sequence: order, made: map[machine.Key]bool{}}
	if asked != nil {
		plan.held = past.Held
	}
	if !order.IsEmpty() {
		for _, k := range known {
			plan.made[k.Key] = k.State == proof.Made
		}
	}
	plan.Reserved = sync.OnceValue(func() map[machine.Key][]ledger.Reservation {
		all := map[machine.Key][]ledger.Reservation{}
		for r := range reserved {
			key := machine.Key{Site: r.Site, Name: r.Machine}
			all[key] = append(all[key], r)
		}
		return all
	})
	requested, err := p.Ledger.Requested(ctx)
	if err != nil {
		return nil, err
	}
	situation := proof.Situation{Requested: requested.Made, Ledger: p.Ledger.ID, Today: time.Now().Format(time.DateOnly), Hidden: Hidden(known, asked), Doubted: p.Doubts(known, asked, missing), Seen: seen(asked)}
	if situation.Spent, err = p.spent(ctx, asked); err != nil {
		return nil, err
	}
	p.shareSlims(find)
	situation.Wanted = make([]proof.Wanted, len(p.Wanted))
	for i, w := range p.Wanted {
		situation.Wanted[i] = proof.Wanted{Key: w.Key, Slim: w.Slim}
	}
	situation.Known = make([]*proof.Known, len(known))
	for i := range known {
		situation.Known[i] = &known[i].Known
	}
	plan.Proof = proof.Compare(situation, keep)
	return plan, nil
}

// askRenamed asks sites for machines that are being given another name and that they do not list: a site that tells of no machines for
// once may have one all the same, under its new name.
func (p *Planner) askRenamed(ctx context.Context, known []ledger.Machine, asked sites.Surveys) error {
	unseen := Hidden(known, asked)
	for _, k := range known {
		answer, is := asked[k.Site]
		id := k.ID(p.Ledger.ID)
		if !is || unseen[k.Key] || !k.Open.BeingRenamed() || slices.ContainsFunc(answer.Machines, func(m contract.Machine) bool { return m.ID == id }) {
			continue
		}
		at, err := p.Sites.Site(k.Site)
		if err != nil {
			return err
		}
		m, err := at.Machine(ctx, id)
		if err != nil && !errors.Is(err, site.ErrNotFound) {
			return fmt.Errorf("ask site %s for %s, which is being renamed: %w", k.Site, k.Name, err)
		}
		if err == nil {
			answer.Machines = append(answer.Machines, *m)
		}
	}
	return nil
}

// inheritFromMade lets what a row leaves empty stay as its machine has it.
func (p *Planner) inheritFromMade(find func(machine.Key) *ledger.Machine, asked sites.Surveys) {
	sites := map[string]map[uuid.UUID]contract.Machine{}
	for name, answer := range asked {
		sites[name] = ByIdentity(answer)
	}
	var spec machine.Spec // of one after the other: there may be many
	for _, w := range p.Wanted {
		k := find(w.Key)
		if k == nil || k.State == proof.Making && k.Generation == 1 && !k.Started {
			continue // there is nothing yet that could stay
		}
		spec = k.Spec()
		there, seen := sites[w.Site][k.ID(p.Ledger.ID)]
		if seen {
			moved(k, &spec, there, w.Common().Clone)
		}
		is := batch.Has{Spec: &spec, Host: k.Host, Store: k.Store}
		if e := k.Earlier; e != nil && e.Generation > 0 && !seen {
			// The clone that was to be replaced is still what is there.
			if old, seen := sites[w.Site][k.EarlierID(p.Ledger.ID)]; seen {
				is, there = batch.Has{Spec: &e.Spec, Host: e.Host, Store: e.Store}, old
			}
		}
		is.Host, is.Store, is.Firmware = cmp.Or(there.Host, is.Host), cmp.Or(there.Store, is.Store), there.Firmware
		w.Inherit(is)
	}
}

// moved has what is known of a machine be where its site has it: somebody may have moved it. Where its row
// names that place, it counts as made there.
func moved(k *ledger.Machine, spec *machine.Spec, there contract.Machine, row machine.Clone) {
	k.Host, k.Store = cmp.Or(there.Host, k.Host), cmp.Or(there.Store, k.Store)
	made := spec.Clone
	if made.Host != "" && row.Host == k.Host {
		spec.Clone.Host = k.Host
	}
	if made.Store != "" && row.Store == k.Store {
		spec.Clone.Store = k.Store
	}
	if spec.Clone.Host != made.Host || spec.Clone.Store != made.Store {
		k.Slim = *spec.Slim()
	}
}

// shareSlims has what is wanted of machines in memory once with what is known of them, where that is the same.
func (p *Planner) shareSlims(find func(machine.Key) *ledger.Machine) {
	for _, w := range p.Wanted {
		k := find(w.Key)
		if k == nil || len(w.Adapters) == 0 {
			continue
		}
		if has, wanted := k.Spec(), w.Spec(); machine.Same(&has, &wanted) {
			w.Slim = &k.Slim
		}
	}
}

func seen(asked sites.Surveys) map[string][]proof.Seen {
	all := map[string][]proof.Seen{}
	for name, answer := range asked {
		all[name] = make([]proof.Seen, 0, len(answer.Machines))
		for _, m := range answer.Machines {
			one := proof.Seen{Identity: m.ID, Name: m.Name, Unclear: m.Unclear, Power: m.Power, Shape: m.Shape, Adapters: m.Adapters, Leases: m.Leases}
			if m.Mark != nil {
				one.Ledger, one.Generation, one.Info = m.Mark.Ledger, m.Mark.Generation, m.Mark.Info
			}
			all[name] = append(all[name], one)
		}
	}
	return all
}

// usualMissing is the share of a site's machines, in percent, that may be missing
// from its answer before that is doubted.
const usualMissing = 25

// Doubts reports which sites list so few of the machines that were made there that
// their answer decides nothing. One machine that is missing is taken for gone.
func (p *Planner) Doubts(known []ledger.Machine, asked sites.Surveys, missing Missing) map[string]string {
	if missing == AcceptMissing {
		return nil
	}
	made, unlisted := map[string]int{}, map[string]int{}
	unseen := Hidden(known, asked)
	sites := map[string]map[uuid.UUID]contract.Machine{}
	for name, answer := range asked {
		sites[name] = ByIdentity(answer)
	}
	for _, k := range known {
		there, wasAsked := sites[k.Site]
		removed := k.Open.Has(step.Remove) || k.Earlier != nil && k.Earlier.Removal // as it was asked for
		if !wasAsked || unseen[k.Key] || removed || k.State != proof.Made && k.Earlier == nil {
			continue
		}
		made[k.Site]++
		found := false
		for _, id := range []uuid.UUID{k.ID(p.Ledger.ID), k.EarlierID(p.Ledger.ID)} {
			_, listed := there[id]
			found = found || listed
		}
		if !found {
			unlisted[k.Site]++
		}
	}
	share := p.Setup.Limits.Missing.Or(usualMissing)
	doubts := map[string]string{}
	for name, n := range unlisted {
		if n > 1 && n*100 > made[name]*share {
			doubts[name] = fmt.Sprintf("site %s does not list %d of the %d machines that were made there", name, n, made[name])
		}
	}
	return doubts
}

// DoubtWarnings warns of sites whose answer is doubted.
func (p *Planner) DoubtWarnings(doubts map[string]string) (found finding.List) {
	for name, why := range doubts {
		found.Add(finding.Finding{Severity: finding.Warning, Code: "machines-missing", At: p.Setup.Where("sites", name), Value: name,
			Message: why + "; its answer is not trusted and nothing is changed there", Hint: "check the site; if the machines were deleted, give --accept-missing"})
	}
	return found
}

// spent lists the last generations of machines that were retired, as the ledger knows
// them, and as the sites show them by disks that were kept.
func (p *Planner) spent(ctx context.Context, asked sites.Surveys) (map[machine.Key]int, error) {
	kept, err := p.Ledger.Kept(ctx)
	if err != nil {
		return nil, err
	}
	spent, err := p.Ledger.LastGenerations(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range kept {
		spent[k.Key] = max(spent[k.Key], k.Generation)
	}
	for name, answer := range asked {
		for _, k := range answer.Kept {
			key := machine.Key{Site: name, Name: k.Name}
			if generation := machine.GenerationOf(p.Ledger.ID, key, k.ID); generation > spent[key] {
				spent[key] = generation
			}
		}
	}
	return spent, nil
}

// newLedger reports a ledger that is begun anew although the sites have the sheet's
// machines with the mark of another ledger.
func (p *Planner) newLedger(ctx context.Context, known []ledger.Machine, asked sites.Surveys) (found finding.List, err error) {
	if len(known) > 0 || len(asked) == 0 {
		return nil, nil
	}
	runs, err := p.Ledger.Runs(ctx)
	if err != nil || len(runs) > 0 {
		return nil, err
	}
	wanted := map[string]bool{}
	for _, w := range p.Wanted {
		wanted[w.Key.String()] = true
	}
	counts := map[uuid.UUID]int{}
	for name, answer := range asked {
		for _, m := range answer.Machines {
			key := machine.Key{Site: name, Name: m.Name}.String()
			if m.Mark != nil && m.Mark.Ledger != p.Ledger.ID && m.Mark.Key == key && wanted[key] {
				counts[m.Mark.Ledger]++
			}
		}
	}
	for _, id := range sortedIDs(counts) {
		found.Add(finding.Finding{Code: "new-ledger", At: p.Setup.Where("ledger"), Value: p.LedgerPath(),
			Message: fmt.Sprintf("the ledger is new, but %s of the sheet %s the mark of ledger %s", finding.Plural(counts[id], "machine"), carries(counts[id]), id),
			Hint:    "use that ledger's file, or recover it with `mintbatch ledger rebuild`; if the machines belong to somebody else, choose other names"})
	}
	return found, nil
}

func sortedIDs(counts map[uuid.UUID]int) []uuid.UUID {
	var ids []uuid.UUID
	for id := range counts {
		ids = append(ids, id)
	}
	slices.SortFunc(ids, func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
	return ids
}

func carries(n int) string {
	if n == 1 {
		return "carries"
	}
	return "carry"
}

// otherCopies warns of machines that runs have changed which this ledger does
// not know: a copy of it is in use, or it was restored from one.
func (p *Planner) otherCopies(ctx context.Context, known []ledger.Machine, asked sites.Surveys) (found finding.List, err error) {
	if len(asked) == 0 {
		return nil, nil
	}
	runs, err := p.Ledger.Runs(ctx)
	if err != nil {
		return nil, err
	}
	ours := map[string]bool{}
	for _, r := range runs {
		ours[r.ID] = true
	}
	at := map[uuid.UUID]*ledger.Machine{}
	for i, k := range known {
		ours[k.Run] = true
		at[k.ID(p.Ledger.ID)] = &known[i]
	}
	n, first, run := 0, "", ""
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		for _, m := range asked[name].Machines {
			if m.Mark == nil || m.Mark.Ledger != p.Ledger.ID || m.Mark.Run == "" || ours[m.Mark.Run] {
				continue
			}
			k := at[m.ID]
			if k != nil && k.Spec().Fingerprint() == m.Mark.Fingerprint {
				continue
			}
			if n++; n == 1 {
				first, run = m.Name, m.Mark.Run
			}
		}
	}
	if n > 0 {
		found.Add(finding.Finding{Severity: finding.Warning, Code: "other-copy", At: p.Setup.Where("ledger"), Value: p.LedgerPath(),
			Message: fmt.Sprintf("%s of this ledger %s by a run that it does not contain (%s, run %s): a copy of this ledger is in use, or it was restored from an old copy", finding.Plural(n, "machine"), wereChanged(n), first, run),
			Hint:    "use one copy only; `mintbatch ledger rebuild` updates this one from the sites"})
	}
	return found, nil
}

func wereChanged(n int) string {
	if n == 1 {
		return "was changed"
	}
	return "were changed"
}

// ByIdentity finds the machines of a site that was asked.
func ByIdentity(answer *contract.Survey) map[uuid.UUID]contract.Machine {
	all := make(map[uuid.UUID]contract.Machine, len(answer.Machines))
	for _, m := range answer.Machines {
		all[m.ID] = m
	}
	return all
}
