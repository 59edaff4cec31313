package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/mint"
)

func (a *App) renameCommand() *cli.Command {
	return &cli.Command{
		Name:      "rename",
		Usage:     "give a machine another name; its disks and addresses stay",
		ArgsUsage: "MACHINE NAME",
		Description: "Renames a machine that is made, at its site and in the ledger, with its addresses, MAC addresses, login\n" +
			"and host key. A Linux guest that runs is told its new host name, if its site can do so. A site that cannot rename a\n" +
			"running machine shuts it down and starts it again. Change its row in the sheet, too.\n\n" +
			"   mintbatch rename bms-tide-03 bms-tide-11",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"}, eventsFlag(), forceFlag(overFiles), forceOffFlag()},
		Action: a.rename,
	}
}

func (a *App) rename(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 2 {
		return misuse{errors.New("name the machine and its new name: mintbatch rename MACHINE NAME")}
	}
	from, to := c.Args().Get(0), c.Args().Get(1)
	d, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := a.lock(ctx, c, d, mint.Everything); err != nil {
		return err
	}
	task, err := d.Renaming(ctx, from, to, orderOf(c))
	if err != nil {
		if errors.Is(err, mint.ErrRename) {
			return misuse{err}
		}
		return err
	}
	if a.readsInput(c) && len(task.Works) > 0 {
		a.showWorks(c, task.Works)
	}
	if err := a.retireAll(ctx, c, d, task, task.RenameQuestion(), "renamed"); err != nil || len(task.Works) == 0 || c.Bool("quiet") || c.Bool("json") || a.streams(c) {
		return err
	}
	left, err := d.AfterRename(ctx, task, func() map[string]bool { return a.rowsOf(c, d) })
	if left.Guest != "" {
		paragraph(a.Stdout, "", fmt.Sprintf("Its guest keeps the host name %s. To change it, change it in the guest, write it in the column hostname, then `mintbatch accept %s`.", left.Guest, to))
	}
	if left.InSheet {
		paragraph(a.Stdout, "", fmt.Sprintf("The sheet still has %s: write %s there, or the next mint makes a new %s.", task.Works[0].Name, to, task.Works[0].Name))
	}
	return err
}

// rowsOf are the names of the sheet's machines; nil if it cannot be read.
func (a *App) rowsOf(c *cli.Command, d *mint.Desk) map[string]bool {
	in, err := a.input(c)
	if err != nil {
		return nil
	}
	return d.SheetNames(in)
}
