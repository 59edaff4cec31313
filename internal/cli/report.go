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
		Description: "Writes a copy of your own sheet with added columns: work, state, addresses, MAC, host, when\n" +
			"and error. Everything else in it stays as it is, and the sheet itself is never written to.\n\n" +
			"   mintbatch report --workbook machines-made.xlsx",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "workbook", Usage: "write the copy to `FILE`"},
			&cli.BoolFlag{Name: "force", Usage: "write over a file"},
		},
		Action: a.report,
	}
}

func (a *App) report(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	path := c.String("workbook")
	if path == "" {
		return misuse{errors.New("say what to write: --workbook FILE")}
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
