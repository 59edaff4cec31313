package mint

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/survey"
)

// SiteView is what a site has, and what the proof would leave of it.
type SiteView struct {
	Site string `json:"site"`
	*survey.Survey
	// After tells what is left once the proof was minted; nil where there is no
	// sheet, or the site places machines itself.
	After *After `json:"after,omitempty"`
}

// After is what would be left. Stores are told apart by place.StoreID.
type After struct {
	Memory map[string]machine.Size `json:"free_memory"` // by host
	Disk   map[string]machine.Size `json:"free_disk"`   // by store
	Short  int                     `json:"short"`       // machines that do not fit
}

// Survey asks the sites named, or all of the setup. Those that cannot be
// reached are told in the error, and the others come nonetheless.
func (s *Session) Survey(ctx context.Context, names []string) ([]SiteView, error) {
	asked := map[string]bool{}
	for _, name := range names {
		if _, known := s.Setup.Sites[name]; !known {
			return nil, fmt.Errorf("%w: site %q (%s)", ErrUnknown, name, finding.DidYouMean(name, setup.Names(s.Setup.Sites)))
		}
		asked[name] = true
	}
	if len(names) == 0 {
		asked = s.everySite()
	}
	surveys, unreachable := s.askAll(ctx, asked)
	known, err := s.Ledger.Machines(ctx)
	if err != nil {
		return nil, err
	}
	work, err := s.compared(ctx, known, surveys, func(string) bool { return true })
	if err != nil {
		return nil, err
	}
	s.Warnings = nil
	var views []SiteView
	for _, name := range slices.Sorted(maps.Keys(surveys)) {
		v := SiteView{Site: name, Survey: surveys[name]}
		if v.Places && s.Table != nil {
			room, short := s.planned(name, surveys[name], known, work)
			memory, disk := room.Left()
			v.After = &After{memory, disk, len(short)}
		}
		views = append(views, v)
	}
	return views, unreachable
}

// ErrUnknown means that the setup has nothing of a name on the command line.
var ErrUnknown = errors.New("the setup has no such")

// TemplateView is a template of the setup as a site has it.
type TemplateView struct {
	Name  string `json:"template"` // as the setup names it
	Site  string `json:"site"`
	There bool   `json:"there"`
	survey.Template
}

// Templates tells of the templates of the setup at every site that can be
// reached; the others are told in the error.
func (s *Session) Templates(ctx context.Context, globs []string) ([]TemplateView, error) {
	all := setup.Names(s.Setup.Templates)
	keep, err := Matcher(globs, all)
	if err != nil {
		return nil, err
	}
	surveys, unreachable := s.askAll(ctx, s.everySite())
	var views []TemplateView
	for _, name := range all {
		if !keep(name) {
			continue
		}
		for _, site := range slices.Sorted(maps.Keys(surveys)) {
			v := TemplateView{Name: name, Site: site, Template: survey.Template{Name: s.Setup.TemplateSource(name)}}
			for _, t := range surveys[site].Templates {
				if t.Name == v.Template.Name {
					v.There, v.Template = true, t
				}
			}
			views = append(views, v)
		}
	}
	return views, unreachable
}
