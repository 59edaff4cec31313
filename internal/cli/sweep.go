package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/mint"
)

func (a *App) sweepCommand() *cli.Command {
	return &cli.Command{
		Name:      "sweep",
		Usage:     "list, shut down or retire machines that are past their date",
		ArgsUsage: "[MACHINE...]",
		Description: "Lists machines whose `until` date is over or ends soon; --stop or --retire handles those that\n" +
			"are past it. The date in the sheet counts, or else the one in the ledger. For use from a timer:\n" +
			"--yes asks nothing, and the exit status is 1 while there are machines past their date that\n" +
			"nothing was done about.\n\n" +
			"   mintbatch sweep\n   mintbatch sweep --stop --yes\n   mintbatch sweep --within 14 --json",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "within", Value: 7, Usage: "also list machines whose date ends within `DAYS` days"},
			&cli.BoolFlag{Name: "stop", Usage: "shut down the machines that are past their date"},
			&cli.BoolFlag{Name: "retire", Usage: "retire the machines that are past their date"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"},
			keepDisksFlag(),
			forceOffFlag(),
			acceptMissingFlag(),
			eventsFlag(),
			forceFlag(overFiles),
		},
		Action: a.sweep,
	}
}

func (a *App) sweep(ctx context.Context, c *cli.Command) error {
	stop, retire := c.Bool("stop"), c.Bool("retire")
	if stop && retire || c.Int("within") < 0 {
		return misuse{errors.New("give only one of --stop and --retire, and --within a number of days from 0")}
	}
	s, err := a.openWithSheet(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if stop || retire {
		if err := a.lock(ctx, c, s, mint.Named(c.Args().Slice())); err != nil {
			return err
		}
	}
	due, err := s.Sweep(ctx, c.Args().Slice(), time.Now(), c.Int("within"), missing(c))
	if err != nil && due == nil {
		return err
	}
	var past, on []mint.Due
	for _, d := range due {
		if d.Past() {
			past = append(past, d)
			if d.Power == machine.On {
				on = append(on, d)
			}
		}
	}
	if a.readsInput(c) {
		a.showDue(c, due, len(past))
	}
	switch {
	case err != nil: // a site cannot be reached: nothing is done half
		return err
	case stop && len(on) > 0:
		task := mint.Stopping(c.Name, mint.Works(on), orderOf(c))
		return a.retireAll(ctx, c, s, task, task.StopQuestion(), "shut down")
	case retire && len(past) > 0:
		works := mint.Works(past)
		if err := s.Retirable(ctx, works, missing(c)); err != nil {
			return err
		}
		if a.readsInput(c) {
			fmt.Fprintln(a.Stdout)
			a.showLosses(c, works)
		}
		task := mint.Retirement(c.Name, works, orderOf(c))
		return a.retireAll(ctx, c, s, task, task.RetireQuestion(), "retired")
	case c.Bool("json"):
		err = a.document(sweepJSON{"mintbatch/sweep/1", len(past), append([]mint.Due{}, due...)})
	}
	if err == nil && len(past) > 0 && !stop {
		err = &reported{exitIncomplete}
	}
	return err
}

func (a *App) showDue(c *cli.Command, due []mint.Due, past int) {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	var cells [][]string
	for _, d := range due {
		left := fmt.Sprintf("%d days left", d.Days)
		switch {
		case d.Past():
			left = p.paint(finding.Plural(-d.Days, "day")+" past", text.FgHiRed)
		case d.Days == 0:
			left = p.paint("today is the last day", text.FgHiYellow)
		case d.Days == 1:
			left = "1 day left"
		}
		cells = append(cells, []string{visible(d.Name), d.Site, d.Until, left, string(d.Power), visible(d.Owner)})
	}
	if len(cells) > 0 {
		rows(a.Stdout, p, []string{"machine", "site", "until", "", "power", "owner"}, cells)
		fmt.Fprintln(a.Stdout)
	}
	fmt.Fprintln(a.Stdout, p.paint(fmt.Sprintf("%d past their date, %d within %s of their date", past, len(due)-past, finding.Plural(c.Int("within"), "day")), text.Bold))
}
