package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/google/uuid"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
)

func (a *App) ledgerCommand() *cli.Command {
	return &cli.Command{
		Name:  "ledger",
		Usage: "check, export, import and repair the ledger",
		Commands: []*cli.Command{{
			Name: "check", Usage: "check the ledger for damage and inconsistencies", Action: a.withSetup(noArguments, a.checkLedger, "ledger"),
			Description: "Exit status 1 if it finds any.\n\n" +
				"   mintbatch ledger check",
		}, {
			Name: "export", Usage: "write the whole ledger as JSON Lines to standard output", Action: a.withSetup(noArguments, a.exportLedger, "ledger"),
			Description: "Sealed values stay sealed. docs/ledger.md documents the format.\n\n" +
				"   mintbatch ledger export > ledger.jsonl",
		}, {
			Name: "backup", Usage: "copy the ledger to a file, also while runs are at work", ArgsUsage: "FILE", Action: a.withSetup(exactlyOne("name one file: mintbatch ledger backup FILE"), a.backUpLedger, "ledger"),
			Flags: []cli.Flag{forceFlag(overFiles)},
			Description: "The copy is the ledger at one moment, and is checked row by row. To go back to it, put it in the\n" +
				"ledger's place while no command runs. A ledger in a database server is backed up there.\n\n" +
				"   mintbatch ledger backup friday.backup",
		}, {
			Name: "import", Usage: "read an export into an empty ledger", ArgsUsage: "FILE", Action: a.importLedger,
			Description: "The ledger takes over the id of the exported one, and with it the ownership of its machines. Use\n" +
				"only one of the two from then on.\n\n" +
				"   mintbatch ledger import ledger.jsonl",
		}, {
			Name: "prune", Usage: "delete old runs and history", Action: a.withLock(daysToKeep, a.pruneLedger),
			Flags: []cli.Flag{&cli.IntFlag{Name: "days", Value: 365, Usage: "delete what is older than `DAYS` days"}},
			Description: "Machines, addresses and sealed values are kept.\n\n" +
				"   mintbatch ledger prune --days 180",
		}, {
			Name:  "rebuild",
			Usage: "rebuild a lost ledger from the ownership marks stored at the sites",
			Description: "Reads the ownership marks of all machines at all sites and adds the machines of this ledger that\n" +
				"it does not know. Replace a lost ledger by a new, empty one first. Passwords and host keys were\n" +
				"sealed in the lost ledger and cannot be recovered.\n\n" +
				"   mintbatch ledger rebuild",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "id", Usage: "the `ID` of the lost ledger, if the sites have machines of several ledgers"},
				&cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"},
			},
			Action: a.rebuild,
		}},
		Action: group,
	}
}

func (a *App) checkLedger(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	faults, err := s.Ledger.Check(ctx)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		err = a.document(ledgerCheckJSON{"mintbatch/ledger-check/1", append([]string{}, faults...)})
	} else if len(faults) == 0 {
		fmt.Fprintln(a.Stdout, "no findings")
	}
	for _, f := range faults {
		fmt.Fprintln(a.Stderr, visible(f))
	}
	if len(faults) > 0 && err == nil {
		err = &reported{exitIncomplete}
	}
	return err
}

func (a *App) exportLedger(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	return s.Ledger.Export(ctx, raw(a.Stdout))
}

func (a *App) backUpLedger(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	path := c.Args().First()
	err := s.BackUp(ctx, path, over(c))
	if errors.Is(err, ledger.ErrServer) {
		return misuse{err}
	}
	if err == nil {
		fmt.Fprintf(a.Stderr, "wrote %s\n", path)
	}
	return err
}

func (a *App) importLedger(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return misuse{errors.New("name one file: mintbatch ledger import FILE")}
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
	if err := a.lock(ctx, c, s, mint.Everything); err != nil {
		return err
	}
	n, err := s.Ledger.Import(ctx, f)
	switch {
	case errors.Is(err, ledger.ErrNotEmpty):
		return misuse{errors.New("the ledger is not empty; name a new file under ledger: in the setup")}
	case errors.Is(err, ledger.ErrExport):
		return misuse{err}
	case err == nil:
		fmt.Fprintf(a.Stderr, "%s imported into ledger %s\n", finding.Plural(n, "row"), s.Ledger.ID)
	}
	return err
}

func daysToKeep(c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	if c.Int("days") < 1 {
		return misuse{errors.New("--days must be 1 or more")}
	}
	return nil
}

func (a *App) pruneLedger(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	n, err := s.Prune(ctx, c.Int("days"))
	if err == nil {
		fmt.Fprintf(a.Stderr, "%s deleted\n", finding.Plural(int(n), "row"))
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
			return misuse{fmt.Errorf("%q is not a ledger id", text)}
		}
		id = parsed
	}
	s, err := a.open(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := a.lock(ctx, c, s, mint.Everything); err != nil {
		return err
	}
	if !c.Bool("yes") {
		if err := a.ask("Adds the machines that carry this ledger's mark at the sites to it.", "rebuild"); err != nil {
			return err
		}
	}
	came, err := s.Rebuild(ctx, id)
	if came == nil {
		return err
	}
	if c.Bool("json") {
		return errors.Join(a.document(rebuildJSON{"mintbatch/rebuild/1", s.Ledger.ID, *came}), err)
	}
	a.showRebuilding(c, s, came)
	return err
}

func (a *App) showRebuilding(c *cli.Command, s *mint.Desk, came *mint.Rebuilding) {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	var cells [][]string
	for _, m := range came.Machines {
		var notes []string
		if m.Unfinished {
			notes = append(notes, "unfinished: the next mint continues it")
		}
		if m.Earlier {
			notes = append(notes, "an earlier clone: the later one is gone")
		}
		if !m.Whole {
			notes = append(notes, "its settings are only partly known: the next proof will show differences")
		}
		cells = append(cells, []string{visible(m.Name), m.Site, strings.Join(notes, "; ")})
	}
	if len(cells) > 0 {
		rows(a.Stdout, p, []string{"machine", "site", "note"}, cells)
		fmt.Fprintln(a.Stdout)
	}
	for _, d := range came.Doubled {
		fmt.Fprintf(a.Stdout, "%s %s has a duplicate: %s\n", d.What, visible(d.Value), visible(strings.Join(d.Machines, " and ")))
	}
	fmt.Fprintln(a.Stdout, p.paint(fmt.Sprintf("%s added to ledger %s", finding.Plural(len(came.Machines), "machine"), s.Ledger.ID), text.Bold))
}
