package cli

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/input"
	"mintbatch/internal/mint"
)

func (a *App) checkCommand() *cli.Command {
	return &cli.Command{
		Name:  "check",
		Usage: "check the sheet and the setup; print findings",
		Description: "Reports everything that is wrong with the sheet and the setup, cell by cell. Nothing is made and\n" +
			"no site is contacted.\n\n" +
			"   mintbatch check\n   mintbatch check --sheet friday.csv\n   mintbatch check --sheet - <friday.csv",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "strict", Usage: "treat warnings as errors"}},
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
	var refused *input.Refused
	if errors.As(err, &refused) { // the setup itself
		checked, err = &mint.Checked{Findings: refused.Findings}, nil
	}
	if err != nil {
		return err
	}
	failed := checked.Findings.Failed() || c.Bool("strict") && checked.Findings.Count(finding.Warning) > 0
	if c.Bool("json") {
		err = a.document(checkJSON{"mintbatch/check/1", checked.Machines, append([]int{}, checked.CommentedOut...), checked.Findings.Count(finding.Error), checked.Findings.Count(finding.Warning), append(finding.List{}, checked.Findings...)})
	} else if !c.Bool("quiet") || failed {
		a.findings(a.Stdout, checked.Findings)
		if failed && len(checked.CommentedOut) > 0 {
			fmt.Fprintf(a.Stdout, "%s commented out\n", finding.Plural(len(checked.CommentedOut), "row"))
		}
		if !failed {
			fmt.Fprintf(a.Stdout, "%s%s, %s\n", finding.Plural(checked.Machines, "machine"), commentedOut(checked.CommentedOut), verdict(checked.Findings))
		}
	}
	if err == nil && failed {
		return &reported{exitRefused}
	}
	return err
}

func verdict(all finding.List) string {
	if n := all.Count(finding.Warning); n > 0 {
		return "no errors; " + finding.Plural(n, "warning")
	}
	return "no findings"
}

// showCommentedOut reports below a proof how many rows of the sheet were passed over.
func (a *App) showCommentedOut(w io.Writer, d *mint.Desk) {
	if d.Table != nil && len(d.Table.CommentedOut) > 0 {
		fmt.Fprintf(w, "%s of the sheet commented out\n", finding.Plural(len(d.Table.CommentedOut), "row"))
	}
}

// commentedOut reports how many rows of the sheet were passed over.
func commentedOut(rows []int) string {
	if len(rows) == 0 {
		return ""
	}
	return fmt.Sprintf(", %s commented out", finding.Plural(len(rows), "row"))
}
