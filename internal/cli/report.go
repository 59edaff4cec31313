package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/handover"
	"mintbatch/internal/plan"
)

func (a *App) reportCommand() *cli.Command {
	return &cli.Command{
		Name:  "report",
		Usage: "write hand-over documents",
		Description: "The workbook is a copy of the sheet with added columns: work, state, addresses, MAC, host, when\n" +
			"and error. The rest is unchanged, and the sheet itself is never written to.\n" +
			"The known_hosts file gets the host keys of all machines, by names and addresses. Earlier lines\n" +
			"for the same names and addresses are replaced; all others are kept.\n\n" +
			"   mintbatch report --workbook machines-made.xlsx\n   mintbatch report --known-hosts ~/.ssh/known_hosts",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "workbook", Usage: "write a copy of the sheet, with the results, to `FILE`"},
			&cli.StringFlag{Name: "known-hosts", Usage: "update the known_hosts `FILE`"},
			forceFlag(overFiles),
		},
		Action: a.report,
	}
}

func (a *App) report(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	path, hosts := c.String("workbook"), c.String("known-hosts")
	if path == "" && hosts == "" {
		return misuse{errors.New("name what to write: --workbook FILE or --known-hosts FILE")}
	}
	if hosts != "" {
		if err := a.knownHosts(ctx, c, hosts); err != nil || path == "" {
			return err
		}
	}
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
