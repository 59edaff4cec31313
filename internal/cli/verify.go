package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/mint"
	"mintbatch/internal/output"
	"mintbatch/internal/report"
)

func (a *App) verifyCommand() *cli.Command {
	return &cli.Command{
		Name:      "verify",
		Usage:     "check that each machine is as the sheet says",
		ArgsUsage: "[MACHINE...]",
		Description: "Asks each machine of the sheet, through its site, for its settings: host name, addresses, login\n" +
			"and host key. At a site that is a folder, looks at the files. Nothing is changed, but with --describe. Exit status 1 if any machine is not as the sheet says.\n\n" +
			"   mintbatch verify\n   mintbatch verify 'bms-tide-*' --json",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "describe", Usage: "of sites that are folders: write descriptions anew first that are missing or were changed"},
			&cli.StringFlag{Name: "junit", Usage: "also write the results to `FILE` as JUnit XML"},
			forceFlag(overFiles),
			eachFlag(),
		},
		Action: a.verify,
	}
}

func (a *App) verify(ctx context.Context, c *cli.Command) error {
	s, err := a.openNamed(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if path := c.String("junit"); path != "" {
		if err := s.Guard().Check(path, over(c)); err != nil {
			return err
		}
	}
	if c.Bool("describe") {
		if err := s.Describe(ctx, c.Args().Slice()); err != nil {
			return err
		}
	}
	verdicts, strays, err := s.Verify(ctx, c.Args().Slice())
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
		cells = append(cells, []string{visible(v.Name), v.Site, word, visible(strings.Trim(v.Why+"; "+v.Note, "; "))})
	}
	switch {
	case c.Bool("json"):
		err = a.document(verifyJSON{"mintbatch/verify/1", failed, append([]mint.Verdict{}, verdicts...), append([]machine.Key{}, strays...)})
	case len(cells) > 0:
		a.paged(c, func(w io.Writer) {
			summed(w, func(w io.Writer) {
				rows(w, p, []string{"machine", "count", "site", "as asked", "why not"}, inRanges(cells, c.Bool("each")))
				fmt.Fprintln(w)
			}, func(w io.Writer) {
				paragraph(w, "", p.paint(fmt.Sprintf("%s: %d as the sheet says, %d not", finding.Plural(len(verdicts), "machine"), len(verdicts)-failed, failed), text.Bold))
				if len(strays) > 0 {
					paragraph(w, "", visible("in no row of the sheet, and not verified: "+strings.Join(machine.NameRanges(names(strays)), " ")))
				}
			})
		})
	}
	if path := c.String("junit"); path != "" {
		err = errors.Join(err, writeJUnit(s, path, over(c), verdicts))
	}
	if err == nil && failed > 0 {
		return &reported{exitIncomplete}
	}
	return err
}

func names(keys []machine.Key) []string {
	all := make([]string, len(keys))
	for i, k := range keys {
		all[i] = k.Name
	}
	return all
}

func writeJUnit(s *mint.Desk, path string, over output.Over, verdicts []mint.Verdict) error {
	var written bytes.Buffer
	cases := make([]report.Case, len(verdicts))
	for i, v := range verdicts {
		cases[i] = report.Case{Name: v.Name, Class: v.Site, Failure: v.Why}
	}
	if err := report.JUnit(&written, "mintbatch verify", cases); err != nil {
		return err
	}
	return s.Guard().Write(path, written.Bytes(), over, 0o644)
}
