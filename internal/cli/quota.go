package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/quota"
)

func (a *App) quotaCommand() *cli.Command {
	return &cli.Command{
		Name:  "quota",
		Usage: "show what quotas limit: used, asked for, and left",
		Description: "Shows for each quota of the setup what the machines of the ledger use, what the rows of the sheet would\n" +
			"add to it, and what is left then. Rows that do not fit are findings, as `check` has them; with one of\n" +
			"them the exit status is 1. No site is contacted.\n\n" +
			"   mintbatch quota\n   mintbatch quota --json",
		Action: a.quota,
	}
}

type quotaJSON struct {
	Schema string        `json:"schema"`
	Quotas []quota.Total `json:"quotas"`
}

func (a *App) quota(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	s, err := a.openWithSheet(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	totals, found, err := s.Quota(ctx)
	if err != nil {
		return err
	}
	a.findings(a.Stderr, found)
	if c.Bool("json") {
		err = a.document(quotaJSON{"mintbatch/quota/1", append([]quota.Total{}, totals...)})
	} else {
		if len(found) > 0 {
			fmt.Fprintln(a.Stderr)
		}
		err = a.table(c, []string{"quota", "resource", "limit", "in use", "asked for", "left", "share"}, a.quotaCells(c, totals), "the setup has no quotas")
		for _, t := range totals {
			if t.Unknown > 0 {
				paragraph(a.Stdout, "", fmt.Sprintf("%s: of %s nobody has said how much it gets (%s)", ofWhom(t), finding.Plural(t.Unknown, "machine"), t.Resource))
			}
		}
	}
	if err == nil && found.Failed() {
		err = &reported{exitIncomplete}
	}
	return err
}

func (a *App) quotaCells(c *cli.Command, totals []quota.Total) (cells [][]string) {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	_, onTerminal := terminal(a.Stdout)
	for _, t := range totals {
		amount := func(n int64) string {
			if t.Resource == quota.Memory || t.Resource == quota.Disk {
				return rough(machine.Size(n))
			}
			return fmt.Sprint(n)
		}
		left, bar := amount(t.Left), ""
		if t.Left < 0 {
			left = p.paint(left, text.FgHiRed)
		}
		if onTerminal && !p.plain {
			bar = quotaBar(p, t)
		}
		cells = append(cells, []string{ofWhom(t), t.Resource.String(), amount(t.Limit), amount(t.Used), signed(t.Proof, amount), left, bar})
	}
	return cells
}

// ofWhom names what is counted together.
func ofWhom(t quota.Total) string {
	if t.Share == "" {
		return t.Rule
	}
	return t.Rule + ": " + visible(t.Share)
}

func signed(n int64, amount func(int64) string) string {
	if n > 0 {
		return "+" + amount(n)
	}
	return amount(n)
}

// quotaWidth is the width of a bar.
const quotaWidth = 10

// quotaBar draws what is used, what is asked for besides, and what is left.
func quotaBar(p painter, t quota.Total) string {
	share := func(n int64) int { return int(max(0, min(n*quotaWidth/max(t.Limit, 1), quotaWidth))) }
	used, all := share(t.Used), share(t.Used+t.Proof)
	if t.Left < 0 {
		all = quotaWidth
	}
	bar := strings.Repeat("=", min(used, all)) + strings.Repeat("+", all-min(used, all)) + strings.Repeat(".", quotaWidth-all)
	if t.Left < 0 {
		return p.paint(bar, text.FgHiRed)
	}
	return bar
}
