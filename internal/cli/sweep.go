package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/mint"
)

func (a *App) sweepCommand() *cli.Command {
	return &cli.Command{
		Name:      "sweep",
		Usage:     "machines that are past the date of their row",
		ArgsUsage: "[MACHINE...]",
		Description: "Lists the machines whose `until` is over, or will be in some days; with --stop or --retire it deals with\n" +
			"those that are past it. Made for a timer: with --yes it asks nothing, and it ends with status 1 while\n" +
			"there are machines past their date that nothing was done about.\n\n" +
			"   mintbatch sweep\n   mintbatch sweep --stop --yes\n   mintbatch sweep --ahead 14 --json",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "ahead", Value: 7, Usage: "also list those whose date will be over in up to `DAYS`"},
			&cli.BoolFlag{Name: "stop", Usage: "shut down those that are past their date"},
			&cli.BoolFlag{Name: "retire", Usage: "retire those that are past their date"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
			keepDisksFlag(),
			forceOffFlag(),
			eventsFlag(),
		},
		Action: a.sweep,
	}
}

func (a *App) sweep(ctx context.Context, c *cli.Command) error {
	stop, retire := c.Bool("stop"), c.Bool("retire")
	if stop && retire || c.Int("ahead") < 0 {
		return misuse{errors.New("sweep takes one of --stop and --retire, and --ahead a number of days from 0")}
	}
	s, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if stop || retire {
		if err := a.hold(ctx, c, s, mint.Named(c.Args().Slice())); err != nil {
			return err
		}
	}
	due, err := s.Sweep(ctx, c.Args().Slice(), time.Now(), c.Int("ahead"))
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
	if a.talks(c) {
		a.showDue(c, due, len(past))
	}
	switch {
	case err != nil: // a site cannot be reached: nothing is done half
		return err
	case stop && len(on) > 0:
		return a.takeDown(ctx, c, s, mint.Works(on), "shut down", func() error {
			return a.ask(fmt.Sprintf("Shut %s down?", plural(len(on), "machine")), "yes")
		}, (*mint.Session).Stop)
	case retire && len(past) > 0:
		return a.takeDown(ctx, c, s, mint.Works(past), "retired", func() error { return a.askToRetire(len(past)) }, (*mint.Session).Retire)
	case c.Bool("json"):
		err = a.document(struct {
			Schema   string     `json:"schema"`
			Past     int        `json:"past"`
			Machines []mint.Due `json:"machines"`
		}{"mintbatch/sweep/1", len(past), append([]mint.Due{}, due...)})
	}
	if err == nil && len(past) > 0 && !stop {
		err = &told{exitIncomplete}
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
			left = p.paint(plural(-d.Days, "day")+" past", text.FgHiRed)
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
	fmt.Fprintln(a.Stdout, p.paint(fmt.Sprintf("%d past their date, %d within %s of it", past, len(due)-past, plural(c.Int("ahead"), "day")), text.Bold))
}
