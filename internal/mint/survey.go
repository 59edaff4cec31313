package mint

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/plan"
	"mintbatch/internal/sites"
)

// SiteView is what a site has, and what the proof would leave of it.
type SiteView struct {
	Site string `json:"site"`
	*contract.Survey
	// After reports what is left once the proof was minted; nil where there is no
	// sheet, or the site places machines itself.
	After *After `json:"after,omitempty"`
}

// After is what would be left. Stores are distinguished by place.StoreID.
type After struct {
	Memory map[string]machine.Size `json:"free_memory"` // by host
	Disk   map[string]machine.Size `json:"free_disk"`   // by store
	Short  int                     `json:"short"`       // machines that do not fit
}

// Survey asks the sites named, or all of the setup. Those that cannot be
// reached are reported in the error, and the others come all the same.
func (d *Desk) Survey(ctx context.Context, names []string) ([]SiteView, error) {
	asked := map[string]bool{}
	for _, name := range names {
		if _, known := d.Setup.Sites[name]; !known {
			return nil, fmt.Errorf("%w: site %q (%s)", ErrUnknown, name, finding.DidYouMean(name, setup.Names(d.Setup.Sites)))
		}
		asked[name] = true
	}
	if len(names) == 0 {
		asked = d.Sites.Every()
	}
	answers, unreachable := d.Sites.AskAll(ctx, asked)
	unreachable = errors.Join(unreachable, d.Sites.Specs(ctx, answers, sites.NoneKnown))
	known, err := d.Ledger.Machines(ctx)
	if err != nil {
		return nil, err
	}
	work, err := d.Compare(ctx, known, answers, nil, plan.DoubtMissing, func(string) bool { return true })
	if err != nil {
		return nil, err
	}
	var views []SiteView
	for _, name := range slices.Sorted(maps.Keys(answers)) {
		v := SiteView{Site: name, Survey: answers[name]}
		if v.Places && d.Table != nil {
			_, room, short := d.Place(name, answers[name], known, work.Proof)
			memory, disk := room.Left()
			v.After = &After{memory, disk, len(short)}
		}
		views = append(views, v)
	}
	return views, unreachable
}

// ErrUnknown means that the setup has nothing of a name on the command line.
var ErrUnknown = errors.New("the setup defines no such")

// TemplateView is a template of the setup as a site has it.
type TemplateView struct {
	Name  string `json:"template"` // as the setup names it
	Site  string `json:"site"`
	There bool   `json:"there"`
	contract.Template
}

// Templates reports the templates of the setup at every site that can be
// reached; the others are reported in the error.
func (d *Desk) Templates(ctx context.Context, globs []string) ([]TemplateView, error) {
	all := setup.Names(d.Setup.Templates)
	if unknown, none := glob.Unmatched(globs, all); none {
		return nil, fmt.Errorf("%w template: %q (%s)", ErrUnknown, unknown, finding.DidYouMean(unknown, all))
	}
	keep := func(name string) bool { return glob.Match(globs, name) }
	answers, unreachable := d.Sites.AskAll(ctx, d.Sites.Every())
	var views []TemplateView
	for _, name := range all {
		if !keep(name) {
			continue
		}
		for _, site := range slices.Sorted(maps.Keys(answers)) {
			v := TemplateView{Name: name, Site: site, Template: contract.Template{Name: d.Setup.TemplateSource(name)}}
			for _, t := range answers[site].Templates {
				if t.Name == v.Template.Name {
					v.There, v.Template = true, t
				}
			}
			views = append(views, v)
		}
	}
	return views, unreachable
}
