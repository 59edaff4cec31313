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
		Action: a.check,
	}
}

func (a *App) check(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	checked, err := mint.Check(ctx, a.input(c))
	var refused *mint.Refused
	if errors.As(err, &refused) { // the setup itself
		checked, err = &mint.Checked{Findings: refused.Findings}, nil
	}
	if err != nil {
		return err
	}
	failed := checked.Findings.Failed()
	if c.Bool("json") {
		err = a.document(struct {
			Schema   string       `json:"schema"`
			Machines int          `json:"machines"`
			Errors   int          `json:"errors"`
			Findings finding.List `json:"findings"`
		}{"mintbatch/check/1", checked.Machines, checked.Findings.Count(finding.Error), append(finding.List{}, checked.Findings...)})
	} else if !c.Bool("quiet") || failed {
		a.findings(a.Stdout, checked.Findings)
		if !failed {
			fmt.Fprintf(a.Stdout, "%s, nothing wrong\n", plural(checked.Machines, "machine"))
		}
	}
	if err == nil && failed {
		return &told{exitRefused}
	}
	return err
}
