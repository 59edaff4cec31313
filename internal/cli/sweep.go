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
		Description: "Lists machines whose `until` date is over or ends soon. --stop shuts down those that are past it;\n" +
			"--retire retires those that are past the date in `keep`, or if they have none, that in `until`.\n" +
			"The dates in the sheet count, or else those in the ledger; `extend` moves both. With --yes, owners are\n" +
			"warned by mail where the setup wants that (`requests: warn`). For use from a timer:\n" +
			"--yes asks nothing, and without --stop and --retire the exit status is 1 while there are machines past\n" +
			"their date.\n\n" +
			"   mintbatch sweep\n   mintbatch sweep --stop --retire --yes\n   mintbatch sweep --within 14 --json",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "within", Value: 7, Usage: "also list machines whose date ends within `DAYS` days"},
			&cli.BoolFlag{Name: "stop", Usage: "shut down the machines that are past the date in until"},
			&cli.BoolFlag{Name: "retire", Usage: "retire the machines that are past the date in keep, or if they have none, in until"},
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
	err := a.sweepOnce(ctx, c)
	if !c.Bool("yes") || a.stop.Err() != nil {
		return err
	}
	o, failed := a.office(c)
	if failed == nil {
		o.Told = func(line string) { fmt.Fprintln(a.Stderr, visible(line)) }
		failed = o.Warn(ctx)
	}
	if err == nil {
		return failed
	}
	if failed != nil {
		fmt.Fprintf(a.Stderr, "mintbatch: %s\n", visible(failed.Error()))
	}
	return err
}

// sweepOnce lists, shuts down and retires.
func (a *App) sweepOnce(ctx context.Context, c *cli.Command) error {
	stop, retire := c.Bool("stop"), c.Bool("retire")
	if c.Int("within") < 0 {
		return misuse{errors.New("give --within a number of days from 0")}
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
	var stopped, retired []mint.Due
	past := 0
	for _, d := range due {
		if d.Past() {
			past++
		}
		switch {
		case retire && d.Ended():
			retired = append(retired, d)
		case stop && d.Past() && d.Power == machine.On:
			stopped = append(stopped, d)
		}
	}
	if a.readsInput(c) {
		a.showDue(c, due, past)
	}
	switch {
	case err != nil: // a site cannot be reached: nothing is done half
		return err
	case len(stopped)+len(retired) > 0:
		return a.doSweep(ctx, c, s, stopped, retired)
	case c.Bool("json"):
		err = a.document(sweepJSON{"mintbatch/sweep/1", past, append([]mint.Due{}, due...)})
	}
	if err == nil && past > 0 && !stop && !retire {
		err = &reported{exitIncomplete}
	}
	return err
}

// doSweep shuts some machines down and retires others.
func (a *App) doSweep(ctx context.Context, c *cli.Command, s *mint.Desk, stopped, retired []mint.Due) error {
	goes := mint.Works(retired)
	if len(goes) > 0 {
		if err := s.Retirable(ctx, goes, missing(c)); err != nil {
			return err
		}
		if a.readsInput(c) {
			fmt.Fprintln(a.Stdout)
			a.showLosses(c, goes)
		}
	}
	done := "shut down"
	switch {
	case len(stopped) == 0:
		done = "retired"
	case len(goes) > 0:
		done = "shut down or retired"
	}
	return a.retireAll(ctx, c, s, s.Sweeping(c.Name, mint.Works(stopped), goes, orderOf(c)), mint.SweepQuestion(len(stopped), len(goes)), done)
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
		cells = append(cells, []string{visible(d.Name), d.Site, d.Until, d.Keep, left, string(d.Power), visible(d.Owner)})
	}
	if len(cells) > 0 {
		rows(a.Stdout, p, []string{"machine", "site", "until", "keep", "left", "power", "owner"}, cells)
		fmt.Fprintln(a.Stdout)
	}
	fmt.Fprintln(a.Stdout, p.paint(fmt.Sprintf("%d past their date, %d within %s of their date", past, len(due)-past, finding.Plural(c.Int("within"), "day")), text.Bold))
}
