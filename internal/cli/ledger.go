package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/mint"
)

func (a *App) ledgerCommand() *cli.Command {
	return &cli.Command{
		Name:  "ledger",
		Usage: "care for the ledger",
		Commands: []*cli.Command{{
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
	if err := a.hold(ctx, s.Ledger); err != nil {
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
