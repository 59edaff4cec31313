package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/mint"
	"mintbatch/internal/template"
)

func (a *App) exportCommand() *cli.Command {
	return &cli.Command{
		Name:      "export",
		Usage:     "write a machine or a template as a package that other programs import (OVA)",
		ArgsUsage: "MACHINE|TEMPLATE",
		Description: "The machine is shut off. The package has its description, its system disk (a stream-optimized VMDK image) and a manifest with\n" +
			"their digests. It is written in one go; what the guest has read of its answers is on the disk.\n\n" +
			"   mintbatch export bms-chart-01 --ova bms-chart-01.ova\n   mintbatch export deb12-base --ova deb12-base.ova --site quay",
		Flags: []cli.Flag{&cli.StringFlag{Name: "ova", Usage: "the `FILE` to write"}, siteFlag(), forceFlag(overFiles)},
		Action: a.withSetup(func(c *cli.Command) error {
			if c.NArg() != 1 || c.String("ova") == "" {
				return misuse{errors.New("name a machine or a template, and a file: mintbatch export MACHINE|TEMPLATE --ova FILE")}
			}
			return nil
		}, a.export, "ledger", "sites"),
	}
}

func (a *App) export(ctx context.Context, c *cli.Command, d *mint.Desk) error {
	path := c.String("ova")
	if err := d.Guard().Check(path, over(c)); err != nil {
		return err
	}
	ctx, release := context.WithCancel(ctx)
	defer release()
	defer context.AfterFunc(a.stop, release)()
	e, err := template.PrepareExport(ctx, d, c.Args().First(), c.String("site"))
	if err != nil {
		return err
	}
	done, end := a.part(c, int64(e.Size))
	err = e.To(ctx, d, path, over(c), done)
	end()
	if a.stop.Err() != nil && err != nil {
		return fmt.Errorf("interrupted; %s was not written", path)
	}
	if err != nil {
		return err
	}
	for _, r := range e.Remarks {
		fmt.Fprintf(a.Stderr, "%s: %s\n", visible(e.Name), visible(r))
	}
	fmt.Fprintf(a.Stderr, "wrote %s: %s with a disk of %s\n", visible(path), visible(e.Name), rough(e.Size))
	return nil
}
