package mint

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
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
			return nil, fmt.Errorf("%w site: %q (%s)", ErrUnknown, name, finding.DidYouMean(name, setup.Names(d.Setup.Sites)))
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
	work, err := d.Compare(ctx, known, answers, nil, plan.DoubtMissing, func(machine.Key) bool { return true })
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
