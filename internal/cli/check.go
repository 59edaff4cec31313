package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/mint"
)

func (a *App) checkCommand() *cli.Command {
	return &cli.Command{
		Name:  "check",
		Usage: "read sheet and setup; print findings",
		Description: "Tells everything that is wrong with the sheet and the setup, each by its cell.\n" +
			"Nothing is made and no site is asked.\n\n" +
			"   mintbatch check\n   mintbatch check --sheet friday.csv\n   mintbatch check --sheet - <friday.csv",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "strict", Usage: "let warnings fail too"}},
		Action: a.check,
	}
}

func (a *App) check(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	in, err := a.input(c)
	if err != nil {
		return err
	}
	checked, err := mint.Check(ctx, in)
	var refused *mint.Refused
	if errors.As(err, &refused) { // the setup itself
		checked, err = &mint.Checked{Findings: refused.Findings}, nil
	}
	if err != nil {
		return err
	}
	failed := checked.Findings.Failed() || c.Bool("strict") && checked.Findings.Count(finding.Warning) > 0
	if c.Bool("json") {
		err = a.document(struct {
			Schema   string       `json:"schema"`
			Machines int          `json:"machines"`
			Errors   int          `json:"errors"`
			Warnings int          `json:"warnings"`
			Findings finding.List `json:"findings"`
		}{"mintbatch/check/1", checked.Machines, checked.Findings.Count(finding.Error), checked.Findings.Count(finding.Warning), append(finding.List{}, checked.Findings...)})
	} else if !c.Bool("quiet") || failed {
		a.findings(a.Stdout, checked.Findings)
		if !failed {
			fmt.Fprintf(a.Stdout, "%s, %s\n", plural(checked.Machines, "machine"), verdict(checked.Findings))
		}
	}
	if err == nil && failed {
		return &told{exitRefused}
	}
	return err
}

func verdict(all finding.List) string {
	if n := all.Count(finding.Warning); n > 0 {
		return "nothing that stops them; " + plural(n, "warning")
	}
	return "nothing wrong"
}
