package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/handover"
	"mintbatch/internal/mint"
	"mintbatch/internal/output"
	"mintbatch/internal/plan"
	"mintbatch/internal/runlog"
)

func (a *App) reportCommand() *cli.Command {
	return &cli.Command{
		Name:      "report",
		Usage:     "write hand-over documents",
		ArgsUsage: "[FOLDER]",
		Description: "The workbook is a copy of the sheet with added columns: work, state, addresses, MAC, host, when\n" +
			"and error. The rest is unchanged, and the sheet itself is never written to.\n\n" +
			"The known_hosts file gets the host keys of all machines, by names and addresses. Earlier lines\n" +
			"for the same names and addresses are replaced; all others are kept.\n\n" +
			"The hosts file and the zone file (RFC 1035) get names and addresses, between two comments of their own; all other\n" +
			"lines are kept. The serial number of a zone grows with each change, and a name that others' lines have is refused.\n" +
			"A zone file that is not there yet gets these records alone, to be included in a zone.\n\n" +
			"The HTML page says what was made, for whom, how to log in and check the host key, what failed, and\n" +
			"how full pools and stores are. It is one file that needs nothing else. With --by, a folder gets a\n" +
			"page for each owner (or value of another field) with their machines alone, and an index. Cards are\n" +
			"for printing: one for each machine, with its host key as a QR code. None contains a password.\n\n" +
			"   mintbatch report --workbook machines-made.xlsx\n   mintbatch report --known-hosts ~/.ssh/known_hosts\n   mintbatch report --hosts hosts --zone db.brackwater.example\n   mintbatch report --html handover.html --cards cards.html\n   mintbatch report --by owner pages",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "workbook", Usage: "write a copy of the sheet, with the results, to `FILE`"},
			&cli.StringFlag{Name: "known-hosts", Usage: "update the known_hosts `FILE`"},
			&cli.StringFlag{Name: "hosts", Usage: "update the hosts `FILE` with names and addresses"},
			&cli.StringFlag{Name: "zone", Usage: "update the zone `FILE` with the names and addresses in its zone, and the fingerprints of host keys"},
			&cli.StringFlag{Name: "origin", Usage: "the `DOMAIN` of a zone file without an SOA record (default: the setup's)"},
			&cli.StringFlag{Name: "html", Usage: "write a page to `FILE`"},
			&cli.StringFlag{Name: "cards", Usage: "write a card for each machine to `FILE`, HTML to be printed"},
			&cli.StringFlag{Name: "by", Usage: "write a page for each value of a `FIELD`, such as owner, to the folder that is named"},
			&cli.StringFlag{Name: "run", Usage: "pages about the machines of `RUN` alone (default: all machines, and the chart of the last run)"},
			&cli.BoolFlag{Name: "offline", Usage: "do not contact the sites for pages; use what the ledger knows"},
			forceFlag(overFiles),
		},
		Action: a.report,
	}
}

func (a *App) report(ctx context.Context, c *cli.Command) error {
	workbook, hosts := c.String("workbook"), c.String("known-hosts")
	paged := c.String("html") != "" || c.String("cards") != "" || c.String("by") != ""
	switch {
	case c.String("by") != "" && c.NArg() != 1:
		return misuse{errors.New("name the folder of the pages: mintbatch report --by FIELD FOLDER")}
	case c.String("by") == "" && c.Args().Present():
		return noArguments(c)
	case workbook == "" && hosts == "" && c.String("hosts") == "" && c.String("zone") == "" && !paged:
		return misuse{errors.New("name what to write: --workbook FILE, --known-hosts FILE, --hosts FILE, --zone FILE, --html FILE, --cards FILE or --by FIELD FOLDER")}
	}
	if err := a.names(ctx, c); err != nil {
		return err
	}
	if hosts != "" {
		if err := a.knownHosts(ctx, c, hosts); err != nil {
			return err
		}
	}
	if paged {
		if err := a.pages(ctx, c); err != nil {
			return err
		}
	}
	if workbook == "" {
		return nil
	}
	return a.workbook(ctx, c, workbook)
}

func (a *App) workbook(ctx context.Context, c *cli.Command, path string) error {
	s, err := a.open(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := handover.CheckWorkbook(s, path, over(c)); err != nil {
		return err
	}
	p, err := s.Make(ctx, plan.Request{Contact: plan.Online})
	if err != nil {
		return err
	}
	if err := handover.WriteWorkbook(ctx, s, path, over(c), p.Proof); err != nil {
		return err
	}
	fmt.Fprintf(a.Stderr, "wrote %s\n", path)
	return nil
}

// pages writes what is to be looked at in a browser.
func (a *App) pages(ctx context.Context, c *cli.Command) error {
	var by mint.Field
	if name := c.String("by"); name != "" {
		var err error
		if by, err = mint.ParseField(name); err != nil {
			return misuse{fmt.Errorf("--by: %w", err)}
		}
	}
	s, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	p, unreachable := handover.Gather(ctx, s, c.String("run"), contact(c))
	if p == nil {
		if errors.Is(unreachable, runlog.ErrNoRun) {
			return misuse{unreachable}
		}
		return unreachable
	}
	for _, one := range []struct {
		path  string
		write func(string, output.Over) error
	}{{c.String("html"), p.WritePage}, {c.String("cards"), p.WriteCards}} {
		if one.path == "" {
			continue
		}
		if err := one.write(one.path, over(c)); err != nil {
			return err
		}
		fmt.Fprintf(a.Stderr, "wrote %s\n", one.path)
	}
	if by.Name != "" {
		n, err := p.WriteParts(c.Args().First(), by, over(c))
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Stderr, "wrote %s to %s\n", finding.Plural(n, "page"), c.Args().First())
	}
	return unreachable
}

// names writes files of names and addresses.
func (a *App) names(ctx context.Context, c *cli.Command) error {
	hosts, zone := c.String("hosts"), c.String("zone")
	if hosts == "" && zone == "" {
		return nil
	}
	s, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if hosts != "" {
		n, err := handover.WriteHosts(ctx, s, hosts)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Stderr, "%s has %s\n", hosts, finding.Plural(n, "machine"))
	}
	if zone != "" {
		n, err := handover.WriteZone(ctx, s, zone, c.String("origin"))
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Stderr, "%s has %s\n", zone, finding.Plural(n, "machine"))
	}
	return nil
}

func (a *App) knownHosts(ctx context.Context, c *cli.Command, path string) error {
	s, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	n, err := handover.WriteKnownHosts(ctx, s, path)
	if err == nil {
		fmt.Fprintf(a.Stderr, "%s knows %s\n", path, finding.Plural(n, "machine"))
	}
	return err
}
