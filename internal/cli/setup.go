package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/setup"
	"mintbatch/internal/input"
	"mintbatch/internal/mint"
)

func (a *App) setupCommand() *cli.Command {
	return &cli.Command{
		Name:        "setup",
		Usage:       "check the setup file or print its schema",
		Description: "   mintbatch setup check\n   mintbatch setup schema >mintbatch.schema.json",
		Action:      group,
		Commands: []*cli.Command{
			{Name: "check", Usage: "check the setup alone; print findings", Action: a.setupCheck,
				Flags: []cli.Flag{&cli.BoolFlag{Name: "sites", Usage: "also try the connection to every site, and look for the setup's templates and networks there"}},
				Description: "With --sites, exit status 3 if one of them cannot be reached.\n\n" +
					"   mintbatch setup check --setup office.yaml --setup friday.yaml\n   mintbatch setup check --sites"},
			{Name: "schema", Usage: "print the JSON Schema of the setup, for editors", Action: a.setupSchema,
				Description: "The schema is JSON Schema draft 2020-12. Many editors read it from a first line such as\n\n" +
					"   # yaml-language-server: $schema=mintbatch.schema.json"},
		},
	}
}

func (a *App) setupSchema(context.Context, *cli.Command) error {
	_, err := raw(a.Stdout).Write(setup.SchemaText())
	return err
}

func (a *App) setupCheck(ctx context.Context, c *cli.Command) error {
	in, err := a.input(c)
	if err != nil {
		return err
	}
	found, err := mint.CheckSetup(in)
	var refused *input.Refused
	if err != nil && !errors.As(err, &refused) {
		return err
	}
	a.findings(a.Stdout, found)
	if refused != nil {
		return &reported{exitRefused}
	}
	if c.Bool("sites") {
		return a.checkSites(ctx, c)
	}
	fmt.Fprintln(a.Stdout, "no findings")
	return nil
}

// checkSites tries every site, and says of each what is wrong and what to do.
func (a *App) checkSites(ctx context.Context, c *cli.Command) error {
	s, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	all := s.CheckSites(ctx)
	failed := slices.ContainsFunc(all, func(one mint.SiteCheck) bool { return !one.Reached })
	if c.Bool("json") {
		err = a.document(siteCheckJSON{"mintbatch/site-check/1", append([]mint.SiteCheck{}, all...)})
	} else {
		a.showSites(c, all)
	}
	if err == nil && failed {
		err = &reported{exitUnreachable}
	}
	return err
}

func (a *App) showSites(c *cli.Command, all []mint.SiteCheck) {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	var cells [][]string
	for _, one := range all {
		result, why := p.paint("reached", text.FgHiCyan), ""
		hosts, machines := fmt.Sprint(one.Hosts), fmt.Sprint(one.Machines)
		if !one.Reached {
			result, hosts, machines = p.paint("not reached", text.FgHiRed), "", ""
			why = one.Error
			if one.Hint != "" {
				why += ". To do: " + one.Hint
			}
		}
		for _, part := range []struct {
			says  string
			names []string
		}{{"hosts that are down: ", one.Down}, {"templates of the setup that it does not have: ", one.Templates}, {"networks of the setup that it does not have: ", one.Networks}} {
			if len(part.names) > 0 {
				why = strings.TrimPrefix(why+"; "+part.says+strings.Join(part.names, ", "), "; ")
			}
		}
		cells = append(cells, []string{visible(one.Site), string(one.Kind), result, fmt.Sprintf("%.1fs", one.Seconds), hosts, machines, visible(why)})
	}
	rows(a.Stdout, p, []string{"site", "kind", "result", "took", "hosts", "machines", "why"}, cells)
}
