package plan

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/column"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/inspect"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
	"mintbatch/internal/sites"
)

// survey asks the sites that the machines in question are wanted at or known to
// be at, and no others: one that is down does not stand in the way of the rest.
func (p *Planner) survey(ctx context.Context, known []ledger.Machine, keep func(machine.Key) bool) (sites.Surveys, error) {
	names := map[string]bool{}
	for _, w := range p.Wanted {
		if keep(w.Key) {
			names[w.Site] = true
		}
	}
	for _, k := range known {
		if _, defined := p.Setup.Sites[k.Site]; defined && keep(k.Key) {
			names[k.Site] = true
		}
	}
	asked, err := p.Sites.AskAll(ctx, names)
	return asked, errors.Join(err, p.Sites.Specs(ctx, asked, p.specs(known)))
}

// specs tells what the ledger knows of the machines that carry its mark.
func (p *Planner) specs(known []ledger.Machine) func(contract.Mark) *machine.Spec {
	at := make(map[string]*ledger.Machine, len(known))
	for i := range known {
		at[known[i].Key.String()] = &known[i]
	}
	return func(mark contract.Mark) *machine.Spec {
		if k := at[mark.Key]; k != nil && mark.Ledger == p.Ledger.ID && mark.Generation == k.Generation {
			spec := k.Spec()
			return &spec
		}
		return nil
	}
}

// othersLimit is how long sites are waited for that are asked for nothing but the
// addresses in use there.
const othersLimit = 15 * time.Second

// surveyOthers asks all other sites, where addresses may be given out: machines that
// the ledger does not know may have them. One that does not answer is in nobody's way.
func (p *Planner) surveyOthers(ctx context.Context, known []ledger.Machine, keep func(machine.Key) bool, asked sites.Surveys) sites.Surveys {
	is := map[machine.Key]bool{}
	for _, k := range known {
		is[k.Key] = true
	}
	if !slices.ContainsFunc(p.Wanted, func(w *batch.Wanted) bool { return keep(w.Key) && !is[w.Key] }) {
		return nil
	}
	names := map[string]bool{}
	for name := range p.Setup.Sites {
		if asked[name] == nil {
			names[name] = true
		}
	}
	limited, cancel := context.WithTimeout(ctx, othersLimit)
	defer cancel()
	others, _ := p.Sites.AskAll(limited, names)
	_ = p.Sites.Specs(limited, others, p.specs(known))
	return others
}

// silent warns of sites that could not be asked which addresses are in use there.
func (p *Planner) silent(asked, others sites.Surveys) (found finding.List) {
	if others == nil {
		return nil
	}
	for name := range p.Setup.Sites {
		if asked[name] == nil && others[name] == nil {
			found.Add(finding.Finding{Severity: finding.Warning, Code: "site-silent", At: p.Setup.Where("sites", name), Value: name,
				Message: fmt.Sprintf("site %s does not answer, so addresses in use there but unknown to this ledger may be assigned", name)})
		}
	}
	return found
}

// sealedMissing reports every sealed value that a machine which is yet to be
// made refers to and the ledger does not have.
func (p *Planner) sealedMissing(ctx context.Context, of proof.Proof) (finding.List, error) {
	has, err := p.Ledger.SealedNames(ctx)
	if err != nil {
		return nil, err
	}
	first := map[string]*machine.Machine{}
	for _, w := range of.Works {
		if w.Word != proof.New && w.Word != proof.Remake {
			continue
		}
		for _, name := range w.Spec().Guest.Sealed() {
			if !slices.Contains(has, name) && first[name] == nil {
				first[name] = w.Machine()
			}
		}
	}
	found := finding.List{}
	for _, w := range p.Wanted {
		for _, name := range slices.Sorted(maps.Keys(first)) {
			if first[name].Key != w.Key {
				continue
			}
			found.Add(finding.Finding{Code: "no-secret", At: w.SealedAt(name), Value: name,
				Message: fmt.Sprintf("machine %s needs the sealed value %s, which is not in the ledger", w.Name, name), Hint: "seal it with `mintbatch secret set " + name + "`"})
		}
	}
	return found, nil
}

// notAtSite reports every name in the sheet that the site which was asked does
// not have, as far as a machine is yet to be cloned: what is made needs its
// template no more.
func (p *Planner) notAtSite(asked sites.Surveys, inspected map[ledger.TemplateKey]inspect.Summary, of proof.Proof) (found, warnings finding.List) {
	cloned := map[machine.Key]bool{}
	for _, w := range of.Works {
		if (w.Word == proof.New || w.Word == proof.Remake) && w.Refusal == "" {
			cloned[w.Key] = true
		}
	}
	told, lacks := map[finding.Position]bool{}, map[string]bool{}
	has := map[string]map[string][]string{} // names by site and column
	for name, v := range asked {
		has[name] = map[string][]string{
			"template": namesOf(v.Templates, func(t contract.Template) string { return t.Name }),
			"host":     namesOf(v.Hosts, func(h contract.Host) string { return h.Name }),
			"store":    namesOf(v.Stores, func(st contract.Store) string { return st.Name }),
			"folder":   v.Folders,
			"network":  v.Networks,
		}
	}
	for _, w := range p.Wanted {
		if asked[w.Site] == nil || !cloned[w.Key] {
			continue
		}
		spec := w.Spec()
		missing := func(what string, adapter int, name string) {
			known := has[w.Site][what]
			if name == "" || slices.Contains(known, name) || what == "folder" && asked[w.Site].Places || what == "network" && contract.Connects(known, name) {
				return
			}
			at := w.Origin(column.ID(what, adapter)).At
			if told[at] {
				return
			}
			told[at] = true
			f := finding.Finding{Code: "not-at-site", At: at, Value: name,
				Message: fmt.Sprintf("site %s has no %s %q", w.Site, what, name), Hint: finding.DidYouMean(name, known)}
			if slices.Contains(asked[w.Site].Inactive, what+" "+name) {
				f.Message, f.Hint = fmt.Sprintf("%s %q of site %s is not active", what, name, w.Site), "start it, and run the same command again"
			}
			if down := asked[w.Site].Down(); len(down) > 0 && what != "host" {
				// Those that want it will fail; it stands in nobody else's way.
				f.Severity, f.Hint = finding.Warning, "it may be on a host that is down: "+strings.Join(down, ", ")
				warnings.Add(f)
				return
			}
			found.Add(f)
		}
		missing("template", 0, spec.Clone.Template)
		more, remarks := unusable(asked[w.Site], w, told)
		found, warnings = append(found, more...), append(warnings, remarks...)
		if i := slices.IndexFunc(asked[w.Site].Templates, func(t contract.Template) bool { return t.Name == spec.Clone.Template }); i >= 0 {
			warnings = append(warnings, lacking(asked[w.Site].Templates[i], inspected[ledger.TemplateKey{Site: w.Site, Template: spec.Clone.Template}], w.Origin("template").At, spec, lacks)...)
		}
		missing("host", 0, spec.Clone.Host)
		missing("store", 0, spec.Clone.Store)
		missing("folder", 0, spec.Clone.Folder)
		for i, a := range w.Adapters {
			missing("network", i+1, a.Network)
		}
	}
	return found, warnings
}

func namesOf[T any](all []T, name func(T) string) []string {
	names := make([]string, len(all))
	for i, v := range all {
		names[i] = name(v)
	}
	return names
}
