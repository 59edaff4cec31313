package mint

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/ledger"
)

// TemplateView is a template of the setup, or a version of one, as a site has it.
type TemplateView struct {
	Name  string `json:"template"` // as the setup names it, with its version
	Site  string `json:"site"`
	There bool   `json:"there"`
	// Unfinished says that a run has begun to make or to delete it, and did not come to its end: making, dropping.
	Unfinished ledger.VersionState `json:"unfinished,omitempty"`
	// Newest is set of the version that machines are cloned from which name none.
	Newest bool `json:"newest,omitempty"`
	// Machines counts those of the ledger that were made of it.
	Machines int `json:"machines"`
	// Saved is what the linked clones of it at the site take less than full ones.
	Saved machine.Size `json:"saved,omitempty"`
	contract.Template
}

// restoreVersions puts versions of templates back into the ledger that a site has of it, and those of which a copy is left.
func (d *Desk) restoreVersions(ctx context.Context, run, site string, answer *contract.Survey) error {
	all, err := d.Ledger.Versions(ctx)
	if err != nil {
		return err
	}
	put := func(state ledger.VersionState, v contract.Version) error {
		if v.Ledger != d.Ledger.ID || slices.ContainsFunc(all, func(has ledger.Version) bool { return has.Site == site && has.Name() == v.Name() }) {
			return nil
		}
		return d.Ledger.PutVersion(ctx, ledger.Version{Site: site, State: state, Run: run, Version: v})
	}
	for _, t := range answer.Templates {
		if t.Version != nil {
			err = errors.Join(err, put(ledger.VersionMade, *t.Version))
		}
	}
	for _, m := range answer.Sealing {
		if v, is := machine.VersionOf(m.Mark.Seal); is {
			err = errors.Join(err, put(ledger.VersionMaking, contract.Version{Ledger: m.Mark.Ledger, Of: v.Template, Number: v.Number}))
		}
	}
	return err
}

// Templates reports the templates of the setup, and all versions of templates that were made here, at
// every site that can be reached; the others are reported in the error.
func (d *Desk) Templates(ctx context.Context, globs []string) ([]TemplateView, error) {
	answers, unreachable := d.Sites.AskAll(ctx, d.Sites.Every())
	known, err := d.Ledger.Machines(ctx)
	if err != nil {
		return nil, err
	}
	versions, err := d.Ledger.Versions(ctx)
	if err != nil {
		return nil, err
	}
	var all []TemplateView
	for _, site := range slices.Sorted(maps.Keys(answers)) {
		all = append(all, d.templatesOf(site, answers[site], known)...)
		all = append(all, unfinished(site, answers[site], versions)...)
	}
	names := setup.Names(d.Setup.Templates)
	for _, v := range all {
		names = append(names, v.Name, versionOr(v.Name).Template)
	}
	if unknown, none := glob.Unmatched(globs, names); none && unreachable == nil {
		return nil, fmt.Errorf("%w template: %q (%s)", ErrUnknown, unknown, finding.DidYouMean(unknown, names))
	}
	all = slices.DeleteFunc(all, func(v TemplateView) bool {
		of, _ := machine.VersionOf(v.Name)
		return !glob.Match(globs, v.Name) && (of.Template == "" || !glob.Match(globs, of.Template))
	})
	slices.SortStableFunc(all, func(a, b TemplateView) int {
		x, y := versionOr(a.Name), versionOr(b.Name)
		return cmp.Or(cmp.Compare(x.Template, y.Template), cmp.Compare(x.Number, y.Number))
	})
	return all, unreachable
}

func versionOr(name string) machine.Version {
	if v, is := machine.VersionOf(name); is {
		return v
	}
	return machine.Version{Template: name}
}

// templatesOf are those of one site.
func (d *Desk) templatesOf(site string, answer *contract.Survey, known []ledger.Machine) (all []TemplateView) {
	made := map[string]int{}
	for _, k := range known {
		if k.Site == site && k.State == proof.Made {
			made[k.Spec().Clone.Template]++
		}
	}
	saved := map[string]machine.Size{}
	for _, m := range answer.Machines {
		if m.Mark != nil && m.Mark.Spec != nil {
			saved[m.Mark.Spec.Clone.Template] += m.Saved
		}
	}
	named := map[string][]string{} // what the setup calls them
	for _, name := range setup.Names(d.Setup.Templates) {
		source := d.Setup.TemplateSource(name)
		named[source] = append(named[source], name)
	}
	newest := answer.Newest()
	for _, t := range answer.Templates {
		v, is := machine.VersionOf(t.Name)
		switch {
		case named[t.Name] != nil:
			for _, name := range named[t.Name] {
				all = append(all, TemplateView{Name: name, Site: site, There: true, Machines: made[t.Name], Saved: saved[t.Name], Template: t})
			}
		case is && (named[v.Template] != nil || t.Version != nil):
			names := named[v.Template]
			if names == nil {
				names = []string{v.Template}
			}
			for _, name := range names {
				name := machine.Version{Template: name, Number: v.Number}
				all = append(all, TemplateView{Name: name.String(), Site: site, There: true, Newest: newest[v.Template] == v.Number, Machines: made[t.Name], Saved: saved[t.Name], Template: t})
			}
		}
	}
	for _, name := range setup.Names(d.Setup.Templates) {
		source := d.Setup.TemplateSource(name)
		if !has(answer, source) {
			all = append(all, TemplateView{Name: name, Site: site, Machines: made[source], Template: contract.Template{Name: source}})
		}
	}
	return all
}

// unfinished are versions that were begun at a site, and are not whole there.
func unfinished(site string, answer *contract.Survey, versions []ledger.Version) (all []TemplateView) {
	for _, v := range versions {
		if v.Site == site && answer.Template(v.Name()) == nil && (v.State == ledger.VersionMaking || v.State == ledger.VersionDropping) {
			all = append(all, TemplateView{Name: v.Name(), Site: site, Unfinished: v.State, Template: contract.Template{Name: v.Name()}})
		}
	}
	return all
}

// has reports whether a site has a template, or a version of it.
func has(answer *contract.Survey, source string) bool {
	return answer.Template(source) != nil || answer.Newest()[source] > 0
}
