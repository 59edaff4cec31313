package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/mint"
	"mintbatch/internal/report"
)

func (a *App) verifyCommand() *cli.Command {
	return &cli.Command{
		Name:      "verify",
		Usage:     "does each machine answer as the sheet says?",
		ArgsUsage: "[MACHINE...]",
		Description: "Asks each machine of the sheet, through its site, for its own view: hostname, addresses, login\n" +
			"and host key. Nothing is changed. Exit status 1 if some are not as the sheet says.\n\n" +
			"   mintbatch verify\n   mintbatch verify 'bms-tide-*' --json",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "junit", Usage: "also write the results into `FILE`, as JUnit XML for a build server"},
		},
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
	if path := c.String("junit"); path != "" {
		err = errors.Join(err, writeJUnit(path, verdicts))
	}
	if err == nil && failed > 0 {
		return &told{exitIncomplete}
	}
	return err
}

func writeJUnit(path string, verdicts []mint.Verdict) error {
	var written bytes.Buffer
	cases := make([]report.Case, len(verdicts))
	for i, v := range verdicts {
		cases[i] = report.Case{Name: v.Name, Class: v.Site, Failure: v.Why}
	}
	if err := report.JUnit(&written, "mintbatch verify", cases); err != nil {
		return err
	}
	return os.WriteFile(path, written.Bytes(), 0o644)
}
