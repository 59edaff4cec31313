package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/handout"
	"mintbatch/internal/mint"
)

func (a *App) handoutCommand() *cli.Command {
	return &cli.Command{
		Name:      "handout",
		Usage:     "copy machines of sites that are folders to a stick or a share, with what is needed to take them in",
		ArgsUsage: "FOLDER [MACHINE...]",
		Description: "All machines if none are named; none of them may run. Every file is read back and compared. What is there already is not copied\n" +
			"again, so the same command goes on where one was ended. A disk that linked clones share is copied once. Beside the machines are\n" +
			"a page that says how to take them in, and scripts for libvirt and for the hypervisor of Windows.\n\n" +
			"   mintbatch handout /media/stick\n   mintbatch handout /media/stick bms-desk-01 bms-desk-02",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "force", Usage: "also replace files that are there already, or were changed since they were handed out"}},
		Action: a.withSetup(func(c *cli.Command) error {
			if c.NArg() == 0 {
				return misuse{errors.New("name a folder: mintbatch handout FOLDER [MACHINE...]")}
			}
			return nil
		}, a.handout, "ledger", "sites"),
	}
}

func (a *App) handout(ctx context.Context, c *cli.Command, d *mint.Desk) error {
	ctx, release := context.WithCancel(ctx)
	defer release()
	defer context.AfterFunc(a.stop, release)()
	p, err := handout.Prepare(ctx, d, c.Args().First(), c.Args().Slice()[1:], c.Bool("force"))
	if err != nil {
		return err
	}
	done, end := a.part(c, p.Size)
	err = p.Do(ctx, done)
	end()
	if a.stop.Err() != nil && err != nil {
		return fmt.Errorf("interrupted; run the same command again to continue")
	}
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.document(handoutJSON{"mintbatch/handout-done/1", p.Dir, p.Copied, len(p.Files), machine.Size(p.Size)})
	}
	fmt.Fprintf(a.Stdout, "%s in %s: copied %s (%s), each read back and compared\n", finding.Plural(len(p.Copied), "machine"), visible(p.Dir), finding.Plural(len(p.Files), "file"), rough(machine.Size(p.Size)))
	return nil
}
