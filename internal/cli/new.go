package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/handover"
)

func (a *App) newCommand() *cli.Command {
	return &cli.Command{
		Name:      "new",
		Usage:     "create a starter setup file and sheet",
		ArgsUsage: "[FOLDER]",
		Description: "Writes a commented setup, its schema for editors, and a workbook with drop-down lists of what\n" +
			"the setup offers.\n\n" +
			"   mintbatch new spring-leg\n   mintbatch new --sheet-only --sheet machines.xlsx",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "sheet-only", Usage: "create only the workbook for an existing setup, or update the drop-down lists of the one in use"},
			forceFlag("replace the starter's own files; a setup that was changed and the rows of a sheet are kept"),
		},
		Action: a.new,
	}
}

func (a *App) new(_ context.Context, c *cli.Command) error {
	if c.Bool("sheet-only") {
		if err := noArguments(c); err != nil {
			return err
		}
		in, err := a.input(c)
		if err != nil {
			return err
		}
		written, err := handover.NewSheet(in)
		for _, path := range written {
			fmt.Fprintln(a.Stdout, path)
		}
		return err
	}
	if c.NArg() > 1 {
		return misuse{errors.New("name one folder: mintbatch new [FOLDER]")}
	}
	dir := "."
	if c.Args().Present() {
		dir = c.Args().First()
	}
	written, err := handover.New(dir, over(c))
	for _, path := range written {
		fmt.Fprintln(a.Stdout, path)
	}
	return err
}
