package plan

import (
	"slices"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
	"mintbatch/internal/sites"
)

// newestVersions has machines that name no version of their template cloned from the newest one that their
// site has. What was begun goes on with the version that it was begun with, and where a site was not asked
// a machine is wanted as it was made.
func (p *Planner) newestVersions(find func(machine.Key) *ledger.Machine, asked sites.Surveys) {
	newest := map[string]map[string]int{}
	for name, answer := range asked {
		newest[name] = answer.Newest()
	}
	versioned := map[string]machine.Version{}
	for name := range p.Setup.Templates {
		if v, err := machine.ParseVersion(p.Setup.TemplateSource(name)); err == nil && v.Number == 0 {
			versioned[name] = v
		}
	}
	if len(versioned) == 0 {
		return
	}
	for _, w := range p.Wanted {
		spec := w.Spec()
		v, is := versioned[spec.Template]
		if w.Pinned || !is {
			continue
		}
		v.Number = newest[w.Site][v.Template]
		if k := find(w.Key); k != nil && (asked[w.Site] == nil || k.State == proof.Making) {
			if was, is := machine.VersionOf(k.Common().Clone.Template); is && was.Template == v.Template && (asked[w.Site] == nil || asked[w.Site].Template(was.String()) != nil) {
				v = was
			}
		}
		if v.String() == spec.Clone.Template {
			continue
		}
		w.Change(func(s *machine.Spec) { s.Clone.Template = v.String() })
	}
}

// addComing adds templates that are yet to be fetched to those that sites have. Clones of them can be made wherever
// their store is reached.
func addComing(asked sites.Surveys, coming map[string][]contract.Template) {
	for name, templates := range coming {
		answer := asked[name]
		if answer == nil {
			continue
		}
		for _, t := range templates {
			for _, h := range answer.Hosts {
				if slices.Contains(h.Stores, t.Store) {
					t.Hosts = append(t.Hosts, h.Name)
				}
			}
			if len(t.Hosts) > 0 {
				t.Host = t.Hosts[0]
			}
			answer.Templates = append(answer.Templates, t)
		}
	}
}
