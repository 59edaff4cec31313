package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/mint"
)

func (a *App) historyCommand() *cli.Command {
	return &cli.Command{
		Name:      "history",
		Usage:     "show what was done to each machine, by whom and when",
		ArgsUsage: "[MACHINE...]",
		Description: "Shows the history in the ledger, also of machines that no longer exist. Names may be globs or ranges;\n" +
			"without names, changes of addresses are included. `mintbatch runs` shows the sheet and setup of\n" +
			"each run.\n\n" +
			"   mintbatch history bms-sonar-01\n   mintbatch history --since 2026-11-23 --until 2026-11-24 --user anna",
		Flags:  periodFlags(),
		Action: a.withSetup(anyArguments, a.history, "ledger"),
	}
}

type eventJSON struct {
	At      time.Time `json:"at"`
	User    string    `json:"user"`
	Host    string    `json:"computer"`
	Run     string    `json:"run,omitempty"`
	Site    string    `json:"site,omitempty"`
	Machine string    `json:"name,omitempty"`
	What    string    `json:"what"`
	Detail  string    `json:"detail,omitempty"`
}

func (a *App) history(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	period, err := periodOf(c)
	if err != nil {
		return err
	}
	all, err := s.History(ctx, c.Args().Slice(), period)
	if err != nil {
		return err
	}
	events := []eventJSON{}
	var cells [][]string
	for _, e := range all {
		events = append(events, eventJSON{e.At, e.User, e.Host, e.Run, e.Site, e.Name, e.What, e.Detail})
		cells = append(cells, []string{when(e.At), visible(e.Name), e.Site, e.What, visible(e.Detail), visible(e.User), visible(e.Host), e.Run})
	}
	if c.Bool("json") {
		return a.document(historyJSON{"mintbatch/history/1", events})
	}
	if len(cells) == 0 {
		fmt.Fprintln(a.Stdout, "there are no entries yet")
		return nil
	}
	a.paged(c, func(w io.Writer) {
		rows(w, a.painter(a.Stdout, c.Bool("no-color")), []string{"when", "machine", "site", "what", "detail", "user", "on", "run"}, cells)
	})
	return nil
}
