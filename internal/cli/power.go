package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/mint"
)

func (a *App) powerCommand() *cli.Command {
	flags := func(more ...cli.Flag) []cli.Flag {
		return append(more, &cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"}, eventsFlag(), forceFlag(overFiles))
	}
	return &cli.Command{
		Name:  "power",
		Usage: "start, shut down or restart machines",
		Description: "Acts on machines that are made, whatever the sheet says. Names may be globs or ranges. Machines with `after` are\n" +
			"started in that order, and shut down the other way round.\n\n" +
			"   mintbatch power off 'bms-tide-*'\n   mintbatch power on 'bms-tide-*'\n   mintbatch power restart bms-sonar-03",
		Action: group,
		Commands: []*cli.Command{
			{Name: "on", Usage: "start machines, and wait until their guests report", Description: "   mintbatch power on 'bms-tide-*'", ArgsUsage: "MACHINE...", Flags: flags(), Action: a.power(mint.PowerOn, "started")},
			{Name: "off", Usage: "shut machines down; a mint leaves them off", Description: "   mintbatch power off --force-off bms-tide-03", ArgsUsage: "MACHINE...", Flags: flags(forceOffFlag()), Action: a.power(mint.PowerOff, "shut down")},
			{Name: "restart", Usage: "shut machines down, start them and wait until their guests report", Description: "   mintbatch power restart bms-tide-03", ArgsUsage: "MACHINE...", Flags: flags(forceOffFlag()), Action: a.power(mint.PowerRestart, "restarted")},
		},
	}
}

func (a *App) power(act mint.PowerAct, done string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		return a.everyday(ctx, c, done, func(d *mint.Desk) (mint.Task, error) {
			return d.Powering(ctx, act, c.Args().Slice(), orderOf(c))
		}, func(t mint.Task) mint.Question { return t.PowerQuestion(act) })
	}
}

// everyday does a task on made machines that are named.
func (a *App) everyday(ctx context.Context, c *cli.Command, done string, taskOf func(*mint.Desk) (mint.Task, error), question func(mint.Task) mint.Question) error {
	if !c.Args().Present() {
		return misuse{errors.New("name the machines: " + c.FullName() + " MACHINE [MACHINE...]")}
	}
	d, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := a.lock(ctx, c, d, mint.Named(c.Args().Slice())); err != nil {
		return err
	}
	task, err := taskOf(d)
	if err != nil {
		return err
	}
	if a.readsInput(c) && len(task.Works) > 0 {
		a.showWorks(c, task.Works)
	}
	return a.retireAll(ctx, c, d, task, question(task), done)
}

// showWorks lists the machines of a task in ranges.
func (a *App) showWorks(c *cli.Command, works []proof.Work) {
	series := machine.Series(works, func(a, b *proof.Work) bool {
		return !c.Bool("each") && a.Site == b.Site && machine.NameFollows(a.Name, b.Name) && machine.AddressesFollow(a.Adapters, b.Adapters)
	})
	var cells [][]string
	for _, s := range series {
		first, last := s[0].Machine(), s[len(s)-1].Machine()
		cells = append(cells, []string{visible(machine.NameRange(first.Name, last.Name)), several(len(s)), first.Site, strings.Join(machine.AddressRanges(first.Adapters, last.Adapters), " "), visible(first.Info.Owner)})
	}
	rows(a.Stdout, a.painter(a.Stdout, c.Bool("no-color")), []string{"machine", "count", "site", "addresses", "owner"}, cells)
	fmt.Fprintf(a.Stdout, "\n%s\n", finding.Plural(len(works), "machine"))
}
