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
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/ledger"
)

// Entry is what is known of one machine.
type Entry struct {
	machine.Key
	State   proof.State   `json:"state"`
	Power   machine.Power `json:"power,omitempty"` // as the site has it; empty if it has not, or was not asked
	AtSite  string        `json:"at_site"`         // `there`, `gone` or `not asked`
	Host    string        `json:"host,omitempty"`
	Store   string        `json:"store,omitempty"`
	Run     string        `json:"run"`
	Changed time.Time     `json:"changed"`
	HostKey string        `json:"host_key,omitempty"`
	Error   string        `json:"error,omitempty"` // of the step that failed last
	Spec    machine.Spec  `json:"spec"`
	// Identity is by what the site knows it.
	Identity string       `json:"identity"`
	Used     machine.Size `json:"used,omitempty"`  // of its store
	Saved    machine.Size `json:"saved,omitempty"` // by being a linked clone
	// Display and Reported are told where one machine is asked for in full.
	Display  string              `json:"display,omitempty"`
	Reported map[string][]string `json:"reported_addresses,omitempty"` // by its guest, by MAC address
}

// Address is one at which the machine can be reached: what its row says, else
// what its guest has reported; empty if neither tells.
func (e Entry) Address() string {
	for _, a := range e.Spec.Adapters {
		for _, p := range append(slices.Clone(a.Addresses), a.Lease) {
			if p.IsValid() {
				return p.Addr().String()
			}
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

// List tells what the ledger and the sites know. A site that cannot be reached
// is told in the error; its machines are listed as not asked.
func (s *Session) List(ctx context.Context, names []string, offline bool) ([]Entry, error) {
	known, err := s.known(ctx, names)
	if err != nil {
		return nil, err
	}
	var surveys map[string]*survey.Survey
	var unreachable error
	if !offline {
		surveys, unreachable = s.atSites(ctx, known)
		s.Warnings = nil
		s.warnOfHosts(surveys)
	}
	sites := map[string]map[uuid.UUID]survey.Machine{}
	for name, answer := range surveys {
		sites[name] = byIdentity(answer)
	}
	unseen := hidden(known, surveys)
	var entries []Entry
	for _, k := range known {
		e := s.entry(k, sites)
		if e.AtSite == "gone" && unseen[k.Key] {
			e.AtSite = "not asked"
		}
		entries = append(entries, e)
	}
	// Those of a folder stand together.
	slices.SortStableFunc(entries, func(a, b Entry) int {
		return cmp.Or(strings.Compare(a.Site, b.Site), strings.Compare(a.Spec.Clone.Folder, b.Spec.Clone.Folder))
	})
	return entries, unreachable
}

// Show is List with what only the site of a machine that runs can tell.
func (s *Session) Show(ctx context.Context, names []string, offline bool) ([]Entry, error) {
	entries, err := s.List(ctx, names, offline)
	for i, e := range entries {
		if e.Power == machine.On {
			err = errors.Join(err, s.detail(ctx, &entries[i]))
		}
	}
	return entries, err
}

func (s *Session) detail(ctx context.Context, e *Entry) error {
	opened, err := s.site(e.Site)
	if err != nil {
		return err
	}
	id, err := uuid.Parse(e.Identity)
	if err != nil {
		return err
	}
	m, err := opened.Machine(ctx, id)
	if err != nil {
		return err
	}
	e.Display = m.Display
	if m.Report != nil {
		e.Reported = m.Report.Addresses
	}
	return nil
}

// known returns the machines of the ledger whose names match one of the globs,
// or all.
func (s *Session) known(ctx context.Context, names []string) ([]ledger.Machine, error) {
	known, err := s.Ledger.Machines(ctx)
	if err != nil {
		return nil, err
	}
	all := make([]string, len(known))
	for i, k := range known {
		all[i] = k.Name
	}
	keep, err := Matcher(names, all)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(known, func(k ledger.Machine) bool { return !keep(k.Name) }), nil
}

// atSites asks each site that the machines are known at for what it has.
func (s *Session) atSites(ctx context.Context, known []ledger.Machine) (map[string]*survey.Survey, error) {
	names := map[string]bool{}
	for _, k := range known {
		names[k.Site] = true
	}
	return s.askAll(ctx, names)
}

// byIdentity finds the machines of a site that was asked.
func byIdentity(answer *survey.Survey) map[uuid.UUID]survey.Machine {
	all := make(map[uuid.UUID]survey.Machine, len(answer.Machines))
	for _, m := range answer.Machines {
		all[m.ID] = m
	}
	return all
}

func (s *Session) entry(k ledger.Machine, sites map[string]map[uuid.UUID]survey.Machine) Entry {
	id := machine.Identity(s.Ledger.ID, k.Key, k.Generation)
	e := Entry{Key: k.Key, State: k.State, AtSite: "not asked", Host: k.Host, Store: k.Store, Run: k.Run,
		Changed: k.Changed, HostKey: k.HostKey, Error: k.Error, Spec: k.Spec, Identity: id.String()}
	if there, asked := sites[k.Site]; asked {
		e.AtSite = "gone"
		if m, ok := there[id]; ok {
			e.AtSite, e.Power, e.Used, e.Saved = "there", m.Power, m.Used, m.Saved
		}
	}
	return e
}

// Why is a column's value and where it comes from.
type Why struct {
	Column string `json:"column"`
	batch.Origin
}

// Why tells where each value of a wanted machine comes from, in the order of
// the columns' names.
func (s *Session) Why(name string) ([]Why, error) {
	var all []string
	for _, w := range s.Wanted {
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
	_, err := Matcher([]string{name}, all)
	return nil, err
}
