package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/mint"
)

func (a *App) runsCommand() *cli.Command {
	return &cli.Command{
		Name:  "runs",
		Usage: "list the runs on this ledger, by whom and with what outcome",
		Description: "Lists every run that changed something, the oldest first. A run without an end was killed or is\n" +
			"in progress.\n\n" +
			"   mintbatch runs --since 7d\n   mintbatch runs show",
		Flags:    periodFlags(),
		Commands: []*cli.Command{a.runShowCommand()},
		Action:   a.withSetup(noSubcommand, a.runs, "ledger", "events"),
	}
}

type runJSON struct {
	ID      string    `json:"run"`
	Command string    `json:"command"`
	User    string    `json:"user"`
	Host    string    `json:"computer"`
	Sheet   string    `json:"sheet_sha256,omitempty"`
	Setup   string    `json:"setup_sha256"`
	Started time.Time `json:"started"`
	Ended   time.Time `json:"ended,omitzero"`
	Outcome string    `json:"outcome,omitempty"`
}

func (a *App) runs(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	period, err := periodOf(c)
	if err != nil {
		return err
	}
	all, err := s.Ledger.Runs(ctx)
	if err != nil {
		return err
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	documents := []runJSON{}
	var cells [][]string
	for _, r := range all {
		if !period.Has(r.Started, r.User) {
			continue
		}
		documents = append(documents, runJSON(r))
		took, outcome := r.Ended.Sub(r.Started).Round(100*time.Millisecond).String(), r.Outcome
		if r.Ended.IsZero() {
			took, outcome = "", "no end: "+cmp.Or(outcome, "under way, or killed")
		}
		if outcome != "done" {
			outcome = p.paint(visible(outcome), text.FgHiYellow)
		}
		cells = append(cells, []string{r.ID, r.Command, visible(r.User), visible(r.Host), when(r.Started), took, outcome})
	}
	if c.Bool("json") {
		return a.document(runsJSON{"mintbatch/runs/1", documents})
	}
	a.paged(c, func(w io.Writer) {
		if len(cells) > 0 {
			rows(w, p, []string{"run", "command", "user", "on", "started", "took", "outcome"}, cells)
			fmt.Fprintln(w)
		}
		fmt.Fprintln(w, p.paint(finding.Plural(len(cells), "run"), text.Bold))
	})
	return nil
}
