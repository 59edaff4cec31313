package cli

import (
	"context"
	"fmt"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/mint"
)

func (a *App) verifyCommand() *cli.Command {
	return &cli.Command{
		Name:      "verify",
		Usage:     "does each machine answer as the sheet says?",
		ArgsUsage: "[MACHINE...]",
		Description: "Asks each machine of the sheet, through its site, for its own view: hostname, addresses, login\n" +
			"and host key. Nothing is changed. Exit status 1 if some are not as the sheet says.\n\n" +
			"   mintbatch verify\n   mintbatch verify 'bms-tide-*' --json",
		Action: a.verify,
	}
}

func (a *App) verify(ctx context.Context, c *cli.Command) error {
	s, err := a.open(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	verdicts, err := s.Verify(ctx, c.Args().Slice())
	if err != nil {
		return err
	}
	failed := 0
	p := a.painter(a.Stdout, c.Bool("no-color"))
	var cells [][]string
	for _, v := range verdicts {
		word := p.paint("yes", text.FgHiCyan)
		if !v.OK {
			failed++
			word = p.paint("no", text.FgHiRed)
		} else if c.Bool("quiet") {
			continue
		}
		cells = append(cells, []string{visible(v.Name), v.Site, word, visible(v.Why)})
	}
	switch {
	case c.Bool("json"):
		err = a.document(struct {
			Schema   string         `json:"schema"`
			Failed   int            `json:"failed"`
			Machines []mint.Verdict `json:"machines"`
		}{"mintbatch/verify/1", failed, append([]mint.Verdict{}, verdicts...)})
	case len(cells) > 0:
		rows(a.Stdout, p, []string{"machine", "site", "as asked", "why not"}, cells)
		fmt.Fprintf(a.Stdout, "\n%s\n", p.paint(fmt.Sprintf("%s: %d as the sheet says, %d not", plural(len(verdicts), "machine"), len(verdicts)-failed, failed), text.Bold))
	}
	if err == nil && failed > 0 {
		return &told{exitIncomplete}
	}
	return err
}
