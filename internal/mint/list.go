package mint

import (
	"cmp"
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
	"mintbatch/internal/plan"
	"mintbatch/internal/sites"
)

// Whether a site has a machine.
const (
	there      = "there"
	Gone       = "gone"
	notAsked   = "not contacted"
	notInSheet = "not in sheet"
	requested  = "requested"  // by another sheet, which somebody sent
	notListed  = "not listed" // by a site that says so little that it is not believed
)

// Entry is what is known of one machine.
type Entry struct {
	machine.Key
	machine.Origin
	State   proof.State   `json:"state"`
	Power   machine.Power `json:"power,omitempty"` // as the site has it; empty if it has not, or was not asked
	AtSite  string        `json:"at_site"`         // `there`, `gone`, `not listed` or `not contacted`
	Host    string        `json:"host,omitempty"`
	Store   string        `json:"store,omitempty"`
	Run     string        `json:"run"`
	Changed time.Time     `json:"changed"`
	HostKey string        `json:"host_key,omitempty"`
	Error   string        `json:"error,omitempty"` // of the step that failed last
	Spec    *machine.Spec `json:"spec"`
	// Identity is by what the site knows it.
	Identity string       `json:"identity"`
	Used     machine.Size `json:"used,omitempty"`  // of its store
	Saved    machine.Size `json:"saved,omitempty"` // by being a linked clone
	// Records are the values that other systems have answered about it, by their names in the setup.
	Records map[string]string `json:"records,omitempty"`
	// Entries are what stands for it in the systems around it; it is set where one machine is asked for in full.
	Entries []entry.Item `json:"entries,omitempty"`
	// Sheet is `not in sheet` for a machine that no row of the sheet asks for, `requested` for one that a request has asked for; empty
	// if a row does, or the sheet was not read.
	Sheet string `json:"sheet,omitempty"`
	// Stages are those of its first boot, as they ended. They, Display and Reported are set where one machine is asked for in full.
	Stages   []string            `json:"stages,omitempty"`
	Display  string              `json:"display,omitempty"`
	Reported map[string][]string `json:"reported_addresses,omitempty"` // by its guest, by MAC address

	seen *contract.Machine // at its site
}

// Address is one at which the machine can be reached: what its row says, else
// what its guest has reported; empty if neither tells.
func (e Entry) Address() string {
	for _, a := range e.Spec.Adapters {
		if given := a.Given(); len(given) > 0 {
			return given[0].Addr().String()
		}
	}
	for _, a := range e.Spec.Adapters {
		for _, text := range e.Reported[a.MAC] {
			if p, err := netip.ParsePrefix(text); err == nil && !p.Addr().IsLinkLocalUnicast() {
				return p.Addr().String()
			}
		}
	}
	return ""
}

// ListRequest says what to list.
type ListRequest struct {
	Names   []string // and globs; none means all
	Contact plan.Contact
	Missing plan.Missing
	// Sheet, if set, tells the names in the sheet, in lower case; nil if it cannot be read.
	Sheet func() map[string]bool
}

// List reports what the ledger and the sites know, by site, folder and name. A site that cannot be reached
// is reported in the error; its machines are listed as not asked.
func (d *Desk) List(ctx context.Context, r ListRequest) (entries []Entry, warnings finding.List, unreachable error) {
	known, err := d.Known(ctx, r.Names)
	if err != nil {
		return nil, nil, err
	}
	var there map[string]map[uuid.UUID]contract.Machine
	unseen, doubts, enough := map[machine.Key]bool{}, map[string]string{}, true
	if r.Contact == plan.Online {
		there, enough = d.askEach(ctx, known)
	}
	if !enough {
		there = map[string]map[uuid.UUID]contract.Machine{}
		var asked sites.Surveys
		if asked, unreachable = d.atSites(ctx, known); asked == nil {
			asked = sites.Surveys{}
		}
		warnings = d.HostsDown(asked)
		for name, answer := range asked {
			there[name] = plan.ByIdentity(answer)
		}
		everything := known
		if len(r.Names) > 0 {
			if everything, err = d.Ledger.Machines(ctx); err != nil {
				return nil, nil, err
			}
		}
		unseen, doubts = plan.Hidden(known, asked), d.Doubts(everything, asked, r.Missing)
		warnings = append(warnings, d.DoubtWarnings(doubts)...)
	}
	tell, err := d.telling(ctx, r)
	if err != nil {
		return nil, nil, err
	}
	entries = make([]Entry, 0, len(known))
	for i := range known {
		k := &known[i]
		e := d.entry(k, there)
		tell(k, &e)
		switch {
		case e.AtSite == Gone && unseen[k.Key]:
			e.AtSite = notAsked
		case e.AtSite == Gone && doubts[k.Site] != "":
			e.AtSite = notListed
		}
		entries = append(entries, e)
	}
	// Those of a folder stand together.
	slices.SortStableFunc(entries, func(a, b Entry) int {
		return cmp.Or(strings.Compare(a.Site, b.Site), strings.Compare(a.Spec.Clone.Folder, b.Spec.Clone.Folder))
	})
	return entries, warnings, unreachable
}

// EachOffline hands all machines to take as List has them without the sites, by site and name, some at a time, so that they are never all in memory.
func (d *Desk) EachOffline(ctx context.Context, r ListRequest, take func([]Entry) error) error {
	tell, err := d.telling(ctx, r)
	if err != nil {
		return err
	}
	return d.Ledger.EachMachine(ctx, func(known []ledger.Machine) error {
		entries := make([]Entry, len(known))
		for i := range known {
			entries[i] = d.entry(&known[i], nil)
			tell(&known[i], &entries[i])
		}
		return take(entries)
	})
}

// telling fills in what other systems, the sheet and requests say of machines.
func (d *Desk) telling(ctx context.Context, r ListRequest) (func(k *ledger.Machine, e *Entry), error) {
	var rows map[string]bool
	if r.Sheet != nil {
		rows = r.Sheet()
	}
	var names []string
	if exact(r.Names) {
		names = glob.WithoutSites(r.Names)
	}
	taken, err := d.Ledger.Taken(ctx, names...)
	if err != nil {
		return nil, err
	}
	asked, err := d.Ledger.Requested(ctx)
	return func(k *ledger.Machine, e *Entry) {
		e.Records = taken[k.Key]
		switch {
		case rows == nil || rows[strings.ToLower(e.Name)]:
		case asked.Made(k.Key, k.Origin):
			e.Sheet = requested
		default:
			e.Sheet = notInSheet
		}
	}, err
}

// ByName orders machines as EachOffline does.
func ByName(entries []Entry) {
	slices.SortFunc(entries, func(a, b Entry) int {
		return cmp.Or(strings.Compare(a.Site, b.Site), strings.Compare(a.Name, b.Name))
	})
}

// few is how many machines are asked for one by one, and not by a survey of their sites.
const few = 4

// soon is how long sites are waited for that are asked for a few machines alone.
const soon = 5 * time.Second

// askEach asks the sites for a few machines alone. It is not enough if there are more, or
// one of them is not there, or nobody says so soon: what that means only a survey tells.
func (d *Desk) askEach(ctx context.Context, known []ledger.Machine) (there map[string]map[uuid.UUID]contract.Machine, enough bool) {
	if len(known) > few {
		return nil, false
	}
	limited, cancel := context.WithTimeout(ctx, soon)
	defer cancel()
	there = map[string]map[uuid.UUID]contract.Machine{}
	for _, k := range known {
		m, err := d.Sites.Machine(limited, k.Site, k.ID(d.Ledger.ID))
		if err != nil {
			return nil, false
		}
		if there[k.Site] == nil {
			there[k.Site] = map[uuid.UUID]contract.Machine{}
		}
		there[k.Site][m.ID] = *m
	}
	return there, true
}

// Planned is the state of a machine that is only in the sheet.
const Planned proof.State = "planned"

// Planned is a machine of a proof as a list would have it.
func (d *Desk) Planned(w proof.Work) Entry {
	e := Entry{Key: w.Key, State: Planned, AtSite: notAsked, Spec: &w.Machine().Spec, Identity: w.Identity.String()}
	if w.Place != nil {
		e.Host, e.Store = w.Place.Host, w.Place.Store
	}
	return e
}

// Show is List with what only the site of a machine that runs can tell.
func (d *Desk) Show(ctx context.Context, r ListRequest) (entries []Entry, warnings finding.List, err error) {
	entries, warnings, err = d.List(ctx, r)
	for i := range entries {
		e := &entries[i]
		var failed error
		if e.Stages, failed = d.stages(ctx, e.Key); failed != nil {
			return entries, warnings, errors.Join(err, failed)
		}
		entered, failed := d.Ledger.Entered(ctx, e.Key)
		if failed != nil {
			return entries, warnings, errors.Join(err, failed)
		}
		e.Entries = entered.Items
		if e.Power != machine.On {
			continue
		}
		if e.seen.Report == nil && e.seen.Display == "" { // by a survey
			id, _ := uuid.Parse(e.Identity)
			m, failed := d.Sites.Machine(ctx, e.Site, id)
			if failed != nil {
				err = errors.Join(err, failed)
				continue
			}
			e.seen = m
		}
		if e.Display = e.seen.Display; e.seen.Report != nil {
			e.Reported = e.seen.Report.Addresses
		}
	}
	return entries, warnings, err
}

// Known returns the machines of the ledger that one of the globs is of, as glob.Keys has them,
// or all.
func (d *Desk) Known(ctx context.Context, names []string) ([]ledger.Machine, error) {
	if some, err := d.named(ctx, names); err != nil || some != nil {
		return some, err
	}
	known, err := d.Ledger.Machines(ctx)
	if err != nil || len(names) == 0 {
		return known, err
	}
	all := make([]machine.Key, len(known))
	for i, k := range known {
		all[i] = k.Key
	}
	keep, err := glob.KeyMatcher(names, all, "the ledger")
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(known, func(k ledger.Machine) bool { return !keep(k.Key) }), nil
}

// named finds machines that are named one by one, without reading all others; nil if there
// are globs among the names, or the ledger does not have one of them.
func (d *Desk) named(ctx context.Context, names []string) ([]ledger.Machine, error) {
	if !exact(names) {
		return nil, nil
	}
	some, err := d.Ledger.MachinesNamed(ctx, glob.WithoutSites(names))
	for _, name := range names {
		is := glob.Keys([]string{name})
		if !slices.ContainsFunc(some, func(k ledger.Machine) bool { return is(k.Key) }) {
			return nil, err
		}
	}
	keep := glob.Keys(names)
	return slices.DeleteFunc(some, func(k ledger.Machine) bool { return !keep(k.Key) }), err
}

// exact reports whether machines are named, few of them, and none by a glob.
func exact(names []string) bool {
	return len(names) > 0 && len(names) <= fewNames && !slices.ContainsFunc(names, func(name string) bool { return strings.ContainsAny(name, `*?[\`) })
}

// fewNames is how many machines are looked up one by one.
const fewNames = 100

// Knows reports why the ledger has no machine of a name; nil if it has.
func (d *Desk) Knows(ctx context.Context, name string) error {
	_, err := d.Known(ctx, []string{name})
	return err
}

// atSites asks each site that the machines are known at for what it has.
func (d *Desk) atSites(ctx context.Context, known []ledger.Machine) (sites.Surveys, error) {
	names := map[string]bool{}
	for _, k := range known {
		names[k.Site] = true
	}
	return d.Sites.AskAll(ctx, names)
}

func (d *Desk) entry(k *ledger.Machine, seen map[string]map[uuid.UUID]contract.Machine) Entry {
	id, spec := k.ID(d.Ledger.ID), k.Spec()
	e := Entry{Key: k.Key, State: k.State, AtSite: notAsked, Host: k.Host, Store: k.Store, Run: k.Run,
		Changed: k.Changed, HostKey: k.HostKey, Error: k.Error, Spec: &spec, Origin: k.Origin, Identity: id.String()}
	if all, asked := seen[k.Site]; asked {
		e.AtSite = Gone
		m, ok := all[id]
		if !ok && k.Earlier != nil { // which a remake has not replaced
			m, ok = all[k.EarlierID(d.Ledger.ID)]
		}
		if ok {
			e.AtSite, e.Power, e.Used, e.Saved, e.seen = there, m.Power, m.Used, m.Saved, &m
			e.Host, e.Store = cmp.Or(m.Host, e.Host), cmp.Or(m.Store, e.Store) // somebody may have moved it
		}
	}
	return e
}

// Why is a column's value and where it comes from.
type Why struct {
	Column string `json:"column"`
	batch.Origin
}

// Why reports where each value of a wanted machine comes from, in the order of
// the columns' names.
func (d *Desk) Why(name string) ([]Why, error) {
	var all []string
	for _, w := range d.Wanted {
		if all = append(all, w.Name); w.Name != name {
			continue
		}
		var why []Why
		for _, c := range batch.Columns(w) {
			if o := w.Origin(c); o.From != "" && o.Value != "" {
				why = append(why, Why{c, o})
			}
		}
		return why, nil
	}
	_, err := glob.Matcher([]string{name}, all, "the sheet")
	return nil, err
}
