package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"
)

func (a *App) reportCommand() *cli.Command {
	return &cli.Command{
		Name:  "report",
		Usage: "hand-over documents",
		Description: "A workbook is a copy of your own sheet with added columns: work, state, addresses, MAC, host,\n" +
			"when and error. Everything else in it stays as it is, and the sheet itself is never written to.\n" +
			"A known_hosts file gets the host keys of all machines, by names and addresses; lines that were\n" +
			"there for the same names and addresses go, and all others stay.\n\n" +
			"   mintbatch report --workbook machines-made.xlsx\n   mintbatch report --known-hosts ~/.ssh/known_hosts",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "workbook", Usage: "write the copy to `FILE`"},
			&cli.StringFlag{Name: "known-hosts", Usage: "bring the known_hosts `FILE` up to date"},
			&cli.BoolFlag{Name: "force", Usage: "write over a workbook"},
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
		return misuse{errors.New("say what to write: --workbook FILE, --known-hosts FILE")}
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
	if err := s.CheckWorkbook(path, c.Bool("force")); err != nil {
		return err
	}
	p, err := s.Proof(ctx, nil, false)
	if err != nil {
		return err
	}
	if err := s.WriteWorkbook(ctx, path, p); err != nil {
		return err
	}
	fmt.Fprintf(a.Stderr, "written: %s\n", path)
	return nil
}

func (a *App) knownHosts(ctx context.Context, c *cli.Command, path string) error {
	s, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	n, err := s.WriteKnownHosts(ctx, path)
	if err == nil {
		fmt.Fprintf(a.Stderr, "%s knows %s\n", path, plural(n, "machine"))
	}
	return err
}
