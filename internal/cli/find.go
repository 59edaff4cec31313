package cli

import (
	"context"
	"errors"
	"io"
	"time"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/mint"
)

func (a *App) findCommand() *cli.Command {
	return &cli.Command{
		Name:      "find",
		Usage:     "tell who has an address, a MAC address or a name, or had it",
		ArgsUsage: "ADDRESS|MAC|MACHINE",
		Description: "Looks in the ledger, the pools, the sheet and the history. No site is contacted.\n\n" +
			"   mintbatch find 198.51.100.11\n   mintbatch find 72:b5:fc:f1:7e:91\n   mintbatch find bms-tide-01",
		Action: a.find,
	}
}

func (a *App) find(ctx context.Context, c *cli.Command) error {
	if err := exactlyOne("name one address, MAC address or machine: mintbatch find 198.51.100.11")(c); err != nil {
		return err
	}
	s, err := a.openWithSheet(ctx, c)
	if err != nil { // a sheet with errors says nothing, and the ledger does all the same
		if s, err = a.openSetup(ctx, c, "ledger"); err != nil {
			return err
		}
	}
	defer s.Close()
	all, err := s.Find(ctx, c.Args().First())
	if errors.Is(err, mint.ErrNotFound) {
		return misuse{err}
	} else if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.document(findJSON{"mintbatch/find/1", all})
	}
	var cells [][]string
	for _, f := range all {
		cells = append(cells, []string{f.Source, visible(f.Name), f.Site, f.Address, when(f.Since), when(f.Until), visible(f.User), visible(f.What)})
	}
	a.paged(c, func(w io.Writer) {
		rows(w, a.painter(a.Stdout, c.Bool("no-color")), []string{"source", "machine", "site", "address", "since", "until", "user", "what"}, cells)
	})
	return nil
}

// periodFlags choose a stretch of time.
func periodFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "since", Usage: "from this `MOMENT` on: 2026-11-23, \"2026-11-23 18:00\", or how long ago: 90m, 36h, 7d"},
		&cli.StringFlag{Name: "until", Usage: "before this `MOMENT`; a day is included"},
		&cli.StringFlag{Name: "user", Usage: "what this `USER` did"},
	}
}

func periodOf(c *cli.Command) (p mint.Period, err error) {
	now := time.Now()
	p.User = c.String("user")
	if text := c.String("since"); text != "" {
		if p.Since, err = mint.Moment(text, now, false); err != nil {
			return p, misuse{err}
		}
	}
	if text := c.String("until"); text != "" {
		if p.Until, err = mint.Moment(text, now, true); err != nil {
			return p, misuse{err}
		}
	}
	return p, nil
}
