package cli

import (
	"context"
	"errors"
	"time"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/mint"
)

func (a *App) checkpointCommand() *cli.Command {
	name := &cli.StringFlag{Name: "name", Usage: "the `NAME` of the checkpoint"}
	flags := func(more ...cli.Flag) []cli.Flag {
		return append(append([]cli.Flag{name}, more...), &cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"}, eventsFlag(), forceFlag(overFiles))
	}
	return &cli.Command{
		Name:  "checkpoint",
		Usage: "keep, list, restore and drop checkpoints of machines",
		Description: "A checkpoint is the state of a machine's disks, and of its memory if it runs, under a name. Rows ask for\n" +
			"them with the column `checkpoint`; these commands keep others and bring machines back. Names may be globs or ranges.\n\n" +
			"   mintbatch checkpoint list 'bms-tide-*'\n   mintbatch checkpoint keep --name ready 'bms-tide-*'\n" +
			"   mintbatch checkpoint restore --name ready 'bms-tide-*'\n   mintbatch checkpoint drop --name ready 'bms-tide-*'",
		Action: group,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list the checkpoints that machines have", Description: "   mintbatch checkpoint list 'bms-tide-*'", ArgsUsage: "[MACHINE...]", Action: a.checkpointList},
			{Name: "keep", Usage: "keep the present state of machines", Description: "   mintbatch checkpoint keep --name ready --off 'bms-tide-*'", ArgsUsage: "MACHINE...",
				Flags: flags(&cli.BoolFlag{Name: "off", Usage: "shut each machine down for it, and start it again if its row says so"}, forceOffFlag()), Action: a.checkpointing(mint.KeepCheckpoint, "kept")},
			{Name: "restore", Usage: "bring machines back to a checkpoint; what they have written since is lost", Description: "   mintbatch checkpoint restore --name ready 'bms-tide-*'", ArgsUsage: "MACHINE...", Flags: flags(forceOffFlag()), Action: a.checkpointing(mint.RestoreCheckpoint, "restored")},
			{Name: "drop", Usage: "delete a checkpoint; the machines stay as they are", Description: "   mintbatch checkpoint drop --name ready 'bms-tide-*'", ArgsUsage: "MACHINE...", Flags: flags(), Action: a.checkpointing(mint.DropCheckpoint, "dropped")},
		},
	}
}

func (a *App) checkpointing(act mint.CheckpointAct, done string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if c.String("name") == "" {
			return misuse{errors.New("name the checkpoint: " + c.FullName() + " --name ready MACHINE [MACHINE...]")}
		}
		all, err := machine.ParseCheckpoints(c.String("name"))
		if err != nil || len(all) != 1 || all[0].Moment != "" {
			return misuse{errors.New("--name: the name of a checkpoint must be letters, digits and hyphens")}
		}
		if c.Bool("off") {
			all[0].Moment = machine.ConfirmedOff
		}
		return a.everyday(ctx, c, done, func(d *mint.Desk) (mint.Task, error) {
			return d.Checkpointing(ctx, act, all[0], c.Args().Slice(), orderOf(c))
		}, func(t mint.Task) mint.Question { return t.CheckpointQuestion(act) })
	}
}

func (a *App) checkpointList(ctx context.Context, c *cli.Command) error {
	d, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer d.Close()
	all, err := d.Checkpoints(ctx, c.Args().Slice())
	if len(all) == 0 && err != nil {
		return err
	}
	if c.Bool("json") {
		return errors.Join(a.document(checkpointsJSON{"mintbatch/checkpoints/1", all}), err)
	}
	var cells [][]string
	for _, k := range all {
		state := "off"
		if k.Running {
			state = "running"
		}
		cells = append(cells, []string{visible(k.Name), k.Site, visible(k.Checkpoint), k.Taken.Local().Format(time.DateTime), state})
	}
	return errors.Join(a.table(c, []string{"machine", "site", "checkpoint", "kept", "state"}, cells, "no checkpoints"), err)
}
