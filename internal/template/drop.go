package template

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/run"
)

// Dropping is a version that is to be deleted at a site.
type Dropping struct {
	mint.Task
	ledger.Version
	Used machine.Size
}

// Question asks before that.
func (p *Dropping) Question() mint.Question {
	return mint.Question{Text: fmt.Sprintf("Delete template %s of site %s with its disk?", p.Name(), p.Site), Word: "yes"}
}

// PrepareDrop finds a version, NAME@N, at a site, and refuses one that others need, or that another ledger
// has made. The ledger has to be locked.
func PrepareDrop(ctx context.Context, d *mint.Desk, name, where string) (*Dropping, error) {
	v, err := machine.ParseVersion(name)
	if err == nil && v.Number == 0 {
		err = refuse("%s: name the version, such as %s@1", name, name)
	}
	if err != nil {
		return nil, err
	}
	if where, err = siteOf(d, where); err != nil {
		return nil, err
	}
	to, at, err := maker(d, where)
	if err != nil {
		return nil, err
	}
	answer, err := d.Sites.Ask(ctx, where)
	if err != nil {
		return nil, err
	}
	p, begun, err := atSite(ctx, d, v, where)
	if err != nil {
		return nil, err
	}
	is := answer.Template(v.String())
	switch {
	case is == nil && !begun:
		return nil, refuse("site %s has no template %s", where, v)
	case is != nil && is.Version == nil:
		return nil, refuse("template %s of site %s was not made by this program", v, where)
	case is != nil && is.Version.Ledger != d.Ledger.ID:
		return nil, refuse("template %s of site %s was made by ledger %s", v, where, is.Version.Ledger)
	case is != nil:
		p.Version.Version, p.Used = *is.Version, is.Used
	}
	linked, err := clonesOf(ctx, d, v, where)
	if err != nil {
		return nil, err
	}
	if len(linked) > 0 {
		return nil, &Needed{Version: v, Site: where, Clones: linked}
	}
	if is != nil && is.Linked != nil && *is.Linked > 0 {
		return nil, refuse("site %s tells of %s of %s", where, finding.Plural(*is.Linked, "linked clone"), v)
	}
	p.Task = task("template drop "+v.String(), machine.Key{Site: where, Name: v.String()}, func(e *run.Engine) []act {
		return []act{
			{"drop", func(ctx context.Context, share func(float64)) error {
				p.Run, p.State = e.Run, ledger.VersionDropping
				if err := d.Ledger.PutVersion(ctx, p.Version); err != nil {
					return err
				}
				if err := removeCopy(ctx, at, p.Version, share); err != nil {
					return err
				}
				t, err := to.DropTemplate(ctx, p.Version.Version, identity(p.Version))
				return settle(ctx, at, t, err, share)
			}},
			{"record", func(ctx context.Context, _ func(float64)) error {
				p.State = ledger.VersionDropped
				return d.Ledger.PutVersion(ctx, p.Version)
			}},
		}
	})
	return p, nil
}

// atSite is what the ledger has of a version at a site, and whether anything of it may be there.
func atSite(ctx context.Context, d *mint.Desk, v machine.Version, where string) (*Dropping, bool, error) {
	p := &Dropping{Version: ledger.Version{Site: where, Version: contract.Version{Ledger: d.Ledger.ID, Of: v.Template, Number: v.Number}}}
	all, err := d.Ledger.Versions(ctx)
	if err != nil {
		return nil, false, err
	}
	for _, one := range all {
		if one.Of == v.Template && one.Number == v.Number && one.Site == where {
			p.Version = one
			return p, one.State != ledger.VersionDropped, nil
		}
	}
	return p, false, nil
}

// clonesOf are the linked clones of a version that the ledger has at a site.
func clonesOf(ctx context.Context, d *mint.Desk, v machine.Version, where string) (linked []ledger.Machine, err error) {
	known, err := d.Ledger.Machines(ctx)
	return slices.DeleteFunc(known, func(k ledger.Machine) bool {
		return k.Site != where || k.Spec().Clone.Template != v.String() || k.Spec().Clone.Kind != machine.Linked
	}), err
}

// Needed says that linked clones need a version.
type Needed struct {
	machine.Version
	Site   string
	Clones []ledger.Machine
}

// Error names them.
func (n *Needed) Error() string {
	return fmt.Sprintf("%s: %s; --detach makes them independent of it first", ErrRefused, n.who())
}

// who names the clones.
func (n *Needed) who() string {
	names := make([]string, len(n.Clones))
	for i, k := range n.Clones {
		names[i] = k.Name
	}
	return fmt.Sprintf("the disk of %s is needed by %s: %s", n.Version, finding.Plural(len(names), "linked clone"), strings.Join(names, " "))
}

// Question asks before they are made independent.
func (n *Needed) Question() mint.Question {
	return mint.Question{Before: n.who(),
		Text: "Make them independent of it (each gets a whole disk)?", Word: "yes"}
}

// Detaching is the task of making them independent: what a mint does once their rows say clone: full.
func (n *Needed) Detaching(d *mint.Desk) mint.Task {
	s := proof.Situation{Ledger: d.Ledger.ID}
	for i := range n.Clones {
		spec := n.Clones[i].Spec()
		spec.Clone.Kind = machine.Full
		s.Wanted, s.Known = append(s.Wanted, proof.Wanted{Key: n.Clones[i].Key, Slim: spec.Slim()}), append(s.Known, &n.Clones[i].Known)
	}
	works := proof.Compare(s, func(machine.Key) bool { return true }).Works
	return mint.Doing("template drop "+n.Version.String()+" --detach", works, nil, func(e *run.Engine, ctx, stop context.Context) []run.Result { return e.Mint(ctx, stop, works) })
}
