package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/google/uuid"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
)

func (a *App) ledgerCommand() *cli.Command {
	return &cli.Command{
		Name:  "ledger",
		Usage: "care for the ledger",
		Commands: []*cli.Command{{
			Name: "check", Usage: "look for damage, and for what does not go together", Action: a.withSetup(noArguments, a.checkLedger),
			Description: "Exit status 1 if there is any.\n\n   mintbatch ledger check",
		}, {
			Name: "export", Usage: "write everything as JSON Lines, to standard output", Action: a.withSetup(noArguments, a.exportLedger),
			Description: "What is sealed stays sealed. The form is documented in docs/ledger.md.\n\n   mintbatch ledger export > ledger.jsonl",
		}, {
			Name: "import", Usage: "read an export into an empty ledger", ArgsUsage: "FILE", Action: a.importLedger,
			Description: "The ledger takes the id of the exported one, so that it knows its machines. Use one of them only.\n\n   mintbatch ledger import ledger.jsonl",
		}, {
			Name: "prune", Usage: "forget old runs and events", Action: a.withHeld(daysToKeep, a.pruneLedger),
			Flags:       []cli.Flag{&cli.IntFlag{Name: "days", Value: 365, Usage: "what is older than so many `DAYS`"}},
			Description: "Machines and what they have stay.\n\n   mintbatch ledger prune --days 180",
		}, {
			Name:  "rebuild",
			Usage: "make a lost ledger again from the marks that the machines carry at their sites",
			Description: "Asks every site for the machines that carry the mark of this ledger and puts those back that it\n" +
				"does not know. A new, empty ledger first takes the place of the one that was lost. Passwords and host\n" +
				"keys were sealed in the lost one; they are not at the sites.\n\n   mintbatch ledger rebuild",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "id", Usage: "the `ID` of the lost ledger, where the sites have machines of several"},
				&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
			},
			Action: a.rebuild,
		}},
		Action: group,
	}
}

func (a *App) checkLedger(ctx context.Context, c *cli.Command, s *mint.Session) error {
	faults, err := s.Ledger.Check(ctx)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.document(struct {
			Schema string   `json:"schema"`
			Faults []string `json:"faults"`
		}{"mintbatch/ledger-check/1", append([]string{}, faults...)})
	} else if len(faults) == 0 {
		fmt.Fprintln(a.Stdout, "nothing wrong")
	}
	for _, f := range faults {
		fmt.Fprintln(a.Stderr, visible(f))
	}
	if len(faults) > 0 && err == nil {
		err = &told{exitIncomplete}
	}
	return err
}

func (a *App) exportLedger(ctx context.Context, c *cli.Command, s *mint.Session) error {
	return s.Ledger.Export(ctx, a.Stdout)
}

func (a *App) importLedger(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return misuse{errors.New("import takes one file: mintbatch ledger import FILE")}
	}
	f, err := os.Open(c.Args().First())
	if err != nil {
		return err
	}
	defer f.Close()
	s, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := a.hold(ctx, c, s, mint.Everything); err != nil {
		return err
	}
	n, err := s.Ledger.Import(ctx, f)
	switch {
	case errors.Is(err, ledger.ErrNotEmpty):
		return misuse{errors.New("the ledger is not empty; name a new file under ledger: in the setup")}
	case errors.Is(err, ledger.ErrExport):
		return misuse{err}
	case err == nil:
		fmt.Fprintf(a.Stderr, "%s read into ledger %s\n", plural(n, "row"), s.Ledger.ID)
	}
	return err
}

func daysToKeep(c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	if c.Int("days") < 1 {
		return misuse{errors.New("--days takes a number from 1")}
	}
	return nil
}

func (a *App) pruneLedger(ctx context.Context, c *cli.Command, s *mint.Session) error {
	n, err := s.Prune(ctx, c.Int("days"))
	if err == nil {
		fmt.Fprintf(a.Stderr, "%s forgotten\n", plural(int(n), "row"))
	}
	return err
}

func (a *App) rebuild(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	id := uuid.Nil
	if text := c.String("id"); text != "" {
		parsed, err := uuid.Parse(text)
		if err != nil {
			return misuse{fmt.Errorf("%q is not a ledger's id", text)}
		}
		id = parsed
	}
	s, err := a.open(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := a.hold(ctx, c, s, mint.Everything); err != nil {
		return err
	}
	if !c.Bool("yes") {
		if err := a.ask("Machines that the sites know as this ledger's are put back into it.", "rebuild"); err != nil {
			return err
		}
	}
	all, err := s.Rebuild(ctx, id)
	if err != nil && len(all) == 0 {
		return err
	}
	if c.Bool("json") {
		return errors.Join(a.document(struct {
			Schema   string         `json:"schema"`
			Ledger   uuid.UUID      `json:"ledger"`
			Machines []mint.Rebuilt `json:"machines"`
		}{"mintbatch/rebuild/1", s.Ledger.ID, append([]mint.Rebuilt{}, all...)}), err)
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	var cells [][]string
	for _, m := range all {
		note := ""
		if !m.Whole {
			note = "not all that it was made to is known: the next proof will show it as different"
		}
		cells = append(cells, []string{visible(m.Name), m.Site, note})
	}
	if len(cells) > 0 {
		rows(a.Stdout, p, []string{"machine", "site", "note"}, cells)
		fmt.Fprintln(a.Stdout)
	}
	fmt.Fprintln(a.Stdout, p.paint(fmt.Sprintf("%s put back into ledger %s", plural(len(all), "machine"), s.Ledger.ID), text.Bold))
	return err
}
