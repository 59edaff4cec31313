package template

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/mint"
)

// need is a version that machines of a site are to be cloned from.
type need struct {
	site, store string
	machine.Version
}

// Missing are the versions that machines which are yet to be made need, that their site does not have, and that a
// library has which a mint may fetch from. What libraries cannot tell is in the error; it stands in nobody's way.
func Missing(ctx context.Context, d *mint.Desk, names []string) ([]*Fetching, error) {
	from := slices.DeleteFunc(setup.Names(d.Setup.Libraries), func(name string) bool { return d.Setup.Libraries[name].Fetch == setup.NoFetch })
	if len(from) == 0 {
		return nil, nil
	}
	wanted, err := needs(ctx, d, names)
	if err != nil || len(wanted) == 0 {
		return nil, err
	}
	at := map[string]bool{}
	for _, n := range wanted {
		at[n.site] = true
	}
	answers, _ := d.Sites.AskAll(ctx, at) // whoever does not answer is told of when the plan is made
	var all []*Fetching
	var failed error
	for _, n := range wanted {
		if answers[n.site] == nil {
			continue
		}
		for _, name := range from {
			f, err := lookUp(ctx, d, name, n, answers[n.site])
			failed = errors.Join(failed, err)
			if f != nil {
				all = append(all, f)
				break
			}
		}
	}
	return all, failed
}

// needs are the versions that machines which are yet to be made want, each once for a site.
func needs(ctx context.Context, d *mint.Desk, names []string) ([]need, error) {
	known, err := d.Ledger.Machines(ctx)
	if err != nil {
		return nil, err
	}
	keep, err := d.Matcher(names, known)
	if err != nil {
		return nil, err
	}
	made := map[machine.Key]bool{}
	for _, k := range known {
		made[k.Key] = k.State == proof.Made
	}
	var all []need
	for _, w := range d.Wanted {
		v, err := machine.ParseVersion(w.Spec().Clone.Template)
		if err != nil || made[w.Key] || !keep(w.Key) {
			continue
		}
		if !w.Pinned {
			v.Number = 0
		}
		if !slices.ContainsFunc(all, func(n need) bool { return n.site == w.Site && n.Version == v }) {
			all = append(all, need{w.Site, w.Spec().Clone.Store, v})
		}
	}
	return all, nil
}

// lookUp is the fetching of what is needed, if the site does not have it and the library does.
func lookUp(ctx context.Context, d *mint.Desk, name string, n need, answer *contract.Survey) (*Fetching, error) {
	has := find(answer, n.Version)
	plain := answer.Template(n.Template) != nil
	newer := d.Setup.Libraries[name].Fetch == setup.FetchAll
	if n.Number > 0 && has != nil || n.Number == 0 && (has != nil || plain) && !newer {
		return nil, nil
	}
	shelf, err := Open(d, name)
	if err != nil {
		return nil, err
	}
	all, err := shelf.versions(ctx, []string{n.Template})
	if err != nil || len(all) == 0 {
		return nil, err
	}
	v := n.Version
	if v.Number == 0 {
		v = all[len(all)-1]
	}
	if !slices.Contains(all, v) || n.Number == 0 && has != nil && has.Version.Number >= v.Number {
		return nil, nil
	}
	f, err := PrepareFetch(ctx, d, FetchOrder{Library: name, Name: v.String(), Site: n.site, Store: n.store})
	if err != nil {
		return nil, fmt.Errorf("template %s for site %s: %w", v, n.site, err)
	}
	if f.There {
		return nil, nil
	}
	return f, nil
}

// Coming are versions that are yet to be fetched, as their sites will have them.
func Coming(all []*Fetching) map[string][]contract.Template {
	coming := map[string][]contract.Template{}
	for _, f := range all {
		t := contract.Template{Name: f.Name(), CPUs: f.Published.CPUs, Memory: f.Published.Memory, Disk: f.Published.Disk, Used: f.Length, Firmware: f.Published.Firmware, Store: f.Store, Version: &f.Version.Version}
		coming[f.Site] = append(coming[f.Site], t)
	}
	return coming
}
