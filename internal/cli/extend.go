package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/mint"
)

func (a *App) extendCommand() *cli.Command {
	return &cli.Command{
		Name:      "extend",
		Usage:     "give machines later dates than their rows say",
		ArgsUsage: "MACHINE...",
		Description: "Changes the dates in `until` and `keep` of machines that are made, whatever the sheet says: the new\n" +
			"dates count until the row gets others. Machines that a sweep has shut down are started again.\n\n" +
			"   mintbatch extend bms-tide-01 --until 2027-06-30\n   mintbatch extend 'bms-tide-*' --until 2027-06-30 --keep 2027-09-30",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "until", Usage: "the last `DATE` on which they are needed, such as 2027-03-31"},
			&cli.StringFlag{Name: "keep", Usage: "the last `DATE` on which their disks are (default: as it is, and not before --until)"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"},
			eventsFlag(),
			forceFlag(overFiles),
		},
		Action: a.extend,
	}
}

func (a *App) extend(ctx context.Context, c *cli.Command) error {
	to := mint.Dates{Until: c.String("until"), Keep: c.String("keep")}
	if !c.Args().Present() || to == (mint.Dates{}) {
		return misuse{errors.New("name the machines and a date: mintbatch extend MACHINE [MACHINE...] --until DATE")}
	}
	d, err := a.openWithSheet(ctx, c)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := a.lock(ctx, c, d, mint.Named(c.Args().Slice())); err != nil {
		return err
	}
	task, err := d.Extending(ctx, c.Args().Slice(), to, orderOf(c))
	if errors.Is(err, mint.ErrExtend) {
		return misuse{err}
	}
	if err != nil {
		return err
	}
	if a.readsInput(c) && len(task.Works) > 0 {
		a.showExtended(c, task.Works)
	}
	return a.retireAll(ctx, c, d, task, task.ExtendQuestion(), "extended")
}

// showExtended lists machines with what becomes of their dates.
func (a *App) showExtended(c *cli.Command, works []proof.Work) {
	var cells [][]string
	for _, w := range works {
		starts := ""
		if w.Redo {
			starts = "is started again"
		}
		cells = append(cells, []string{visible(w.Name), w.Site, w.Why(), starts, visible(w.Info.Owner)})
	}
	rows(a.Stdout, a.painter(a.Stdout, c.Bool("no-color")), []string{"machine", "site", "changes", "power", "owner"}, cells)
	fmt.Fprintf(a.Stdout, "\n%s\n", finding.Plural(len(works), "machine"))
}
