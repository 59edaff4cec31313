package mint

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/ledger"
	"mintbatch/internal/plan"
	"mintbatch/internal/sites"
)

// Rebuilt is a machine that was put back into the ledger.
type Rebuilt struct {
	machine.Key
	// Whole reports whether all that the machine was made to is known. If not,
	// the next proof will find it different from its row.
	Whole bool `json:"whole"`
	// Unfinished reports that it was never started: the next mint continues with it.
	Unfinished bool `json:"unfinished,omitempty"`
	// Earlier reports that it is an earlier clone than the ledger knew, which is gone.
	Earlier bool `json:"earlier,omitempty"`
}

// Doubled is what two machines have and only one may.
type Doubled struct {
	What     string   `json:"what"` // `address`, `MAC address` or `name`
	Value    string   `json:"value"`
	Machines []string `json:"of"` // site/name, with the ledger if it is another one
}

// Rebuilding is what came of Rebuild.
type Rebuilding struct {
	Machines []Rebuilt `json:"machines"`
	Doubled  []Doubled `json:"doubled"`
}

// Rebuild puts the machines that carry this ledger's mark, and that it does not
// know or has lost sight of, back into it. An empty ledger first takes the id of
// the one that was lost: the only one that the sites know, or the one named. Sealed
// values are lost with a ledger; they are at no site.
func (d *Desk) Rebuild(ctx context.Context, id uuid.UUID) (*Rebuilding, error) {
	answers, err := d.Sites.AskAll(ctx, d.Sites.Every())
	if err = errors.Join(err, d.Sites.Specs(ctx, answers, sites.NoneKnown)); err != nil {
		return nil, err // a site left out would be a ledger that is wrong
	}
	for name, answer := range answers {
		if down := answer.Down(); len(down) > 0 {
			return nil, fmt.Errorf("site %s: machines on hosts that are down cannot be recovered: %s", name, strings.Join(down, ", "))
		}
	}
	known, err := d.Ledger.Machines(ctx)
	if err != nil {
		return nil, err
	}
	if err := d.adopt(ctx, id, answers, known); err != nil {
		return nil, err
	}
	runs, err := d.Ledger.Runs(ctx)
	if err != nil {
		return nil, err
	}
	run, err := d.startRun(ctx, "ledger rebuild", nil, nil)
	if err != nil {
		return nil, err
	}
	has, named := map[machine.Key]ledger.Machine{}, map[uuid.UUID]machine.Key{}
	for _, k := range known {
		has[k.Key], named[k.ID(d.Ledger.ID)] = k, k.Key
	}
	came := &Rebuilding{Machines: []Rebuilt{}, Doubled: []Doubled{}}
	for _, site := range slices.Sorted(maps.Keys(answers)) {
		found := newest(answers[site].Machines, d.Ledger.ID)
		there := plan.ByIdentity(answers[site])
		before := func(m contract.Machine) (machine.Key, bool) { return formerly(site, m, has, named, d.Ledger.ID, there) }
		renamed, err := d.takeOver(ctx, run.ID, site, found, before, has, runs)
		came.Machines = append(came.Machines, renamed...)
		if err != nil {
			return came, err
		}
		for _, m := range found {
			key := machine.Key{Site: site, Name: m.Name}
			k, is := has[key]
			_, whole := there[k.ID(d.Ledger.ID)]
			earlier := is && !whole && k.State == proof.Made && m.Mark.Generation < k.Generation
			if m.Mark.Key != key.String() || is && !earlier && !isBehind(k, m.Mark, runs) {
				continue
			}
			if was, known := before(m); known && !is && has[was].Open.BeingRenamed() {
				continue // which is gone on with by itself
			}
			rebuilt, err := d.restore(ctx, run.ID, key, m)
			rebuilt.Earlier = earlier
			if err != nil {
				return came, err
			}
			came.Machines = append(came.Machines, rebuilt)
		}
		if err := d.restoreVersions(ctx, run.ID, site, answers[site]); err != nil {
			return came, err
		}
		for _, kept := range answers[site].Kept {
			key := machine.Key{Site: site, Name: kept.Name}
			if generation := machine.GenerationOf(d.Ledger.ID, key, kept.ID); generation > 0 {
				if err := d.Ledger.KeepDisks(ctx, ledger.Kept{Key: key, Generation: generation, Disks: kept.Files, Run: run.ID}); err != nil {
					return came, err
				}
			}
		}
	}
	came.Doubled = doubled(answers, has, d.Ledger.ID)
	if err := d.recoverEntries(ctx); err != nil {
		return came, err
	}
	return came, d.Ledger.EndRun(context.WithoutCancel(ctx), run.ID, "done")
}

// takeOver gives machines of the ledger the names that they have at their site. One may have the
// name that another had before, and so has to wait for that.
func (d *Desk) takeOver(ctx context.Context, run, site string, found []contract.Machine, formerly func(contract.Machine) (machine.Key, bool), has map[machine.Key]ledger.Machine, runs []ledger.Run) ([]Rebuilt, error) {
	var all []Rebuilt
	for again := true; again; {
		again = false
		for _, m := range found {
			key := machine.Key{Site: site, Name: m.Name}
			before, was := formerly(m)
			if _, is := has[key]; is || !was || m.Mark.Key != key.String() || has[before].Open.BeingRenamed() {
				continue
			}
			k := has[before]
			renamed := machine.Machine{Key: key, Spec: k.Spec()}
			if m.Mark.Spec != nil {
				renamed.Spec.Guest.Hostname = m.Mark.Spec.Guest.Hostname
			}
			if err := d.Ledger.Rename(ctx, run, before, renamed); err != nil {
				return all, err
			}
			k.Key, k.Slim = key, *renamed.Spec.Slim()
			delete(has, before)
			if has[key], again = k, true; !isBehind(k, m.Mark, runs) {
				all = append(all, Rebuilt{Key: key, Whole: true})
			}
		}
	}
	return all, nil
}

// formerly finds the machine of the ledger that one at a site was before it was renamed by a run
// which the ledger does not know, or is now, where the site does not know that.
func formerly(site string, m contract.Machine, has map[machine.Key]ledger.Machine, named map[uuid.UUID]machine.Key, id uuid.UUID, there map[uuid.UUID]contract.Machine) (machine.Key, bool) {
	if key, is := named[m.ID]; is && key.Name != m.Name {
		if _, is := has[key]; is {
			return key, true
		}
	}
	for _, name := range m.Mark.Former {
		key := machine.Key{Site: site, Name: name}
		k, is := has[key]
		if !is {
			continue
		}
		_, now := there[k.ID(id)]
		_, before := there[k.EarlierID(id)]
		if !now && !before {
			return key, true
		}
	}
	return machine.Key{}, false
}

// isBehind reports whether a site knows more of a machine than the ledger: a later
// generation, or a run that the ledger does not know.
func isBehind(k ledger.Machine, mark *contract.Mark, runs []ledger.Run) bool {
	if mark.Generation != k.Generation {
		return mark.Generation > k.Generation
	}
	return mark.Run != k.Run && mark.Fingerprint != k.Spec().Fingerprint() && !slices.ContainsFunc(runs, func(r ledger.Run) bool { return r.ID == mark.Run })
}

// newest lists a ledger's machines, of each only its last generation, by the names that their marks say.
func newest(all []contract.Machine, id uuid.UUID) []contract.Machine {
	last := map[string]contract.Machine{}
	for _, m := range all {
		if m.Mark == nil || m.Mark.Ledger != id {
			continue
		}
		m.Name = m.MarkedName()
		if m.Mark.Generation >= generation(last[m.Name]) {
			last[m.Name] = m
		}
	}
	var found []contract.Machine
	for _, name := range slices.Sorted(maps.Keys(last)) {
		found = append(found, last[name])
	}
	return found
}

func generation(m contract.Machine) int {
	if m.Mark == nil {
		return 0
	}
	return m.Mark.Generation
}

// property is what only one machine may have.
type property struct{ what, value string }

// doubled lists the addresses, MAC addresses and names that two machines have, one
// of which is this ledger's.
func doubled(answers sites.Surveys, known map[machine.Key]ledger.Machine, own uuid.UUID) []Doubled {
	had := map[property][]string{}
	ours := map[property]bool{}
	add := func(what, value, who string, own bool) {
		key := property{what, value}
		if value != "" && !slices.Contains(had[key], who) {
			had[key] = append(had[key], who)
			ours[key] = ours[key] || own
		}
	}
	spec := func(who string, isOwn bool, adapters []machine.Adapter) {
		for _, a := range adapters {
			if !a.Parent.IsVLAN() {
				add("MAC address", a.MAC, who, isOwn)
			}
			for _, p := range a.Given() {
				add("address", p.Addr().String(), who, isOwn)
			}
		}
	}
	for site, answer := range answers {
		names := map[string]int{}
		for _, m := range answer.Machines {
			if m.Mark == nil {
				continue
			}
			m.Name = m.MarkedName()
			isOwn, who := m.Mark.Ledger == own, site+"/"+m.Name
			if m.Mark.Ledger == uuid.Nil {
				who += " (a copy)"
			} else if !isOwn {
				who += " of ledger " + m.Mark.Ledger.String()
			} else if names[m.Name]++; names[m.Name] > 1 {
				who += " (" + m.ID.String() + ")"
				add("name", m.Name, site+"/"+m.Name, true)
				add("name", m.Name, who, true)
			}
			if m.Mark.Spec != nil {
				spec(who, isOwn, m.Mark.Spec.Adapters)
			}
		}
	}
	for _, k := range known {
		spec(k.Key.String(), true, k.Adapters)
	}
	all := []Doubled{}
	for key, who := range had {
		if len(who) > 1 && ours[key] {
			slices.Sort(who)
			all = append(all, Doubled{key.what, key.value, who})
		}
	}
	slices.SortFunc(all, func(a, b Doubled) int { return strings.Compare(a.What+a.Value, b.What+b.Value) })
	return all
}

// adopt finds out whose machines the sites have, and lets an empty ledger be
// that one.
func (d *Desk) adopt(ctx context.Context, id uuid.UUID, answers sites.Surveys, known []ledger.Machine) error {
	counts := map[uuid.UUID]int{}
	for _, answer := range answers {
		for _, m := range answer.Machines {
			if m.Mark != nil && m.Mark.Ledger != uuid.Nil {
				counts[m.Mark.Ledger]++
			}
		}
	}
	if counts[d.Ledger.ID] > 0 && (id == uuid.Nil || id == d.Ledger.ID) || len(known) > 0 && id == uuid.Nil {
		return nil
	}
	if id == uuid.Nil {
		var words []string
		for other, n := range counts {
			id = other
			words = append(words, fmt.Sprintf("%s (%s)", other, finding.Plural(n, "machine")))
		}
		slices.Sort(words)
		switch len(counts) {
		case 0:
			return errors.New("no machine at the sites has an ownership mark")
		case 1:
		default:
			return fmt.Errorf("the sites have machines of several ledgers: %s; choose one with --id", strings.Join(words, ", "))
		}
	}
	if id == d.Ledger.ID {
		return nil
	}
	if counts[id] == 0 {
		return fmt.Errorf("no machine at the sites belongs to ledger %s", id)
	}
	if err := d.Ledger.Adopt(ctx, id); err != nil {
		if errors.Is(err, ledger.ErrNotEmpty) {
			return fmt.Errorf("%w and is not ledger %s; name a new file under ledger: in the setup", err, id)
		}
		return err
	}
	return nil
}

// restore puts one machine back, made to what its mark says. One that was never
// started is unfinished: it may lack its seed.
func (d *Desk) restore(ctx context.Context, runID string, key machine.Key, m contract.Machine) (Rebuilt, error) {
	rebuilt := Rebuilt{Key: key, Unfinished: m.Mark.Stage == contract.StageMaking && m.Power != machine.On}
	restored := ledger.Machine{Known: proof.Known{Key: key, Origin: m.Mark.Origin, Generation: m.Mark.Generation, State: proof.Made, Host: m.Host, Store: m.Store}, Run: m.Mark.Run}
	if rebuilt.Unfinished {
		restored.State = proof.Making
	}
	if m.Mark.Spec != nil {
		spec := *m.Mark.Spec
		rebuilt.Whole = spec.Guest.Firstboot.IsZero() || d.contents(key, &spec)
		restored.Slim = *spec.Slim()
	}
	return rebuilt, d.Ledger.Restore(ctx, runID, restored, reservationsOf(key, restored.Spec(), d.Setup), m.Mark.Request)
}

// contents puts the first-boot contents of the sheet's machine in the place of
// their digest, if they are the same.
func (d *Desk) contents(key machine.Key, spec *machine.Spec) bool {
	for _, w := range d.Wanted {
		if w.Key != key {
			continue
		}
		if is := w.Spec().Guest; is.ContentsDigest() == spec.Guest.Commands[0] {
			spec.Guest.Firstboot, spec.Guest.Own = is.Firstboot, is.Own
			return true
		}
	}
	return false
}

// reservationsOf lists the addresses that a machine was made with, and the pools
// that they are of.
func reservationsOf(key machine.Key, spec machine.Spec, from *setup.Setup) []ledger.Reservation {
	var all []ledger.Reservation
	for i, a := range spec.Adapters {
		name := from.NetworkOf(a.Network)
		if name == "" {
			continue
		}
		for _, p := range a.Given() {
			r := ledger.Reservation{Network: name, Addr: p.Addr(), Pool: from.AddressNetworks()[name].PoolOf(p.Addr())}
			r.Site, r.Machine, r.Adapter = key.Site, key.Name, i+1
			all = append(all, r)
		}
	}
	return all
}
