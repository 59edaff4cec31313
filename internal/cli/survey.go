package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/place"
	"mintbatch/internal/input"
	"mintbatch/internal/mint"
)

func (a *App) surveyCommand() *cli.Command {
	return &cli.Command{
		Name:      "survey",
		Usage:     "show the sites' hosts, stores and networks, and how full they are",
		ArgsUsage: "[SITE...]",
		Description: "Shows what the sites have. Where mintbatch places the machines, the column \"after\" shows what\n" +
			"is left after a mint.\n\n" +
			"   mintbatch survey\n   mintbatch survey quay --json",
		Action: a.survey,
	}
}

func (a *App) survey(ctx context.Context, c *cli.Command) error {
	s, err := a.open(ctx, c)
	var refused *input.Refused
	if errors.As(err, &refused) {
		// A sheet with errors, or none, says nothing of afterwards; the sites
		// are there all the same.
		if s, err = a.openSetup(ctx, c); err == nil {
			fmt.Fprintln(a.Stderr, "the sheet has errors, so the column \"after\" is empty; see `mintbatch check`")
		}
	}
	if err != nil {
		return err
	}
	defer s.Close()
	views, unreachable := s.Survey(ctx, c.Args().Slice())
	if views == nil && unreachable != nil {
		return unreachable
	}
	if c.Bool("json") {
		return errors.Join(a.document(surveyJSON{"mintbatch/survey/1", views}), unreachable)
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	var hosts, stores, networks [][]string
	for _, v := range views {
		hosts = append(hosts, hostRows(p, v)...)
		stores = append(stores, storeRows(v)...)
		for _, n := range v.Networks {
			networks = append(networks, []string{v.Site, visible(n), hostsWith(v, n)})
		}
	}
	rows(a.Stdout, p, []string{"site", "host", "cpus", "memory", "promised", "free", "after", "machines", "emulators", "firmware", "note"}, hosts)
	fmt.Fprintln(a.Stdout)
	rows(a.Stdout, p, []string{"site", "store", "kind", "capacity", "promised", "free", "after", "hosts"}, stores)
	fmt.Fprintln(a.Stdout)
	rows(a.Stdout, p, []string{"site", "network", "hosts"}, networks)
	for _, v := range views {
		if v.After != nil && v.After.Short > 0 {
			fmt.Fprintf(a.Stdout, "\n%s\n", p.paint(fmt.Sprintf("%s of the sheet do not fit at site %s", finding.Plural(v.After.Short, "machine"), v.Site), text.FgHiRed))
		}
	}
	return unreachable
}

func hostRows(p painter, v mint.SiteView) [][]string {
	var all [][]string
	for _, h := range v.Hosts {
		if h.Down != "" {
			all = append(all, []string{v.Site, visible(h.Name), "", "", "", "", "", "", "", "", p.paint("down: "+visible(h.Down), text.FgHiRed)})
			continue
		}
		n := 0
		for _, m := range v.Machines {
			if m.Host == h.Name {
				n++
			}
		}
		after := ""
		if v.After != nil {
			after = rough(v.After.Memory[h.Name])
		}
		all = append(all, []string{v.Site, visible(h.Name), fmt.Sprint(h.CPUs), rough(h.Memory), some(h.Promised),
			rough(h.FreeMemory), after, fmt.Sprint(n), strings.Join(h.Emulators, " "), strings.Join(h.Firmware, " "), ""})
	}
	return all
}

func storeRows(v mint.SiteView) [][]string {
	var all [][]string
	for _, st := range v.Stores {
		after := ""
		if v.After != nil {
			after = rough(v.After.Disk[place.StoreID(st.Name, st.Hosts)])
		}
		all = append(all, []string{v.Site, visible(st.Name), st.Kind, rough(st.Capacity), some(st.Promised), rough(st.Free), after, visible(strings.Join(st.Hosts, " "))})
	}
	return all
}

// hostsWith lists the hosts that have a network, where they tell.
func hostsWith(v mint.SiteView, network string) string {
	var names []string
	for _, h := range v.Hosts {
		if slices.Contains(h.Networks, network) {
			names = append(names, visible(h.Name))
		}
	}
	return strings.Join(names, " ")
}

// rough writes a size for people.
func rough(s machine.Size) string { return s.Rough() }

// some is rough, and nothing for none.
func some(s machine.Size) string {
	if s == 0 {
		return ""
	}
	return rough(s)
}
