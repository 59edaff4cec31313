package mint

import (
	"context"
	"errors"
	"slices"
	"time"

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
	Spec    machine.Spec  `json:"spec"`
	// Identity is by what the site knows it.
	Identity string `json:"identity"`
}

// List tells what the ledger and the sites know. A site that cannot be reached
// is told in the error; its machines are listed as not asked.
func (s *Session) List(ctx context.Context, names []string, offline bool) ([]Entry, error) {
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
	sites := map[string]map[string]survey.Machine{}
	var unreachable error
	if !offline {
		sites, unreachable = s.atSites(ctx, known)
	}
	var entries []Entry
	for _, k := range known {
		if keep(k.Name) {
			entries = append(entries, s.entry(k, sites))
		}
	}
	return entries, unreachable
}

// atSites asks each site that the ledger has machines at for what it has.
func (s *Session) atSites(ctx context.Context, known []ledger.Machine) (map[string]map[string]survey.Machine, error) {
	sites := map[string]map[string]survey.Machine{}
	var failed error
	asked := map[string]bool{}
	for _, k := range known {
		if asked[k.Site] {
			continue
		}
		asked[k.Site] = true
		answer, err := s.ask(ctx, k.Site)
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		sites[k.Site] = map[string]survey.Machine{}
		for _, m := range answer.Machines {
			sites[k.Site][m.ID.String()] = m
		}
	}
	return sites, failed
}

func (s *Session) entry(k ledger.Machine, sites map[string]map[string]survey.Machine) Entry {
	id := machine.Identity(s.Ledger.ID, k.Key, k.Generation).String()
	e := Entry{Key: k.Key, State: k.State, AtSite: "not asked", Host: k.Host, Store: k.Store, Run: k.Run,
		Changed: k.Changed, HostKey: k.HostKey, Spec: k.Spec, Identity: id}
	if there, asked := sites[k.Site]; asked {
		e.AtSite = "gone"
		if m, ok := there[id]; ok {
			e.AtSite, e.Power = "there", m.Power
		}
	}
	return e
}

// Why tells where each value of a wanted machine comes from, by column. It is
// empty for one that is not in the sheet.
func (s *Session) Why(name string, columns []string) map[string]batch.Origin {
	i := slices.IndexFunc(s.Wanted, func(w *batch.Wanted) bool { return w.Name == name })
	if i < 0 {
		return nil
	}
	why := map[string]batch.Origin{}
	for _, c := range columns {
		if o := s.Wanted[i].Origin(c); o.From != "" {
			why[c] = o
		}
	}
	return why
}
