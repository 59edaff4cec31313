package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/mint"
)

func (a *App) newCommand() *cli.Command {
	return &cli.Command{
		Name:      "new",
		Usage:     "a starter setup file and sheet",
		ArgsUsage: "[FOLDER]",
		Description: "Writes a commented setup, the schema by which editors complete it, and a workbook to fill\n" +
			"in, with drop-down lists of what the setup offers.\n\n" +
			"   mintbatch new spring-leg\n   mintbatch new --sheet-only --sheet machines.xlsx",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "sheet-only", Usage: "make the workbook again, for the setup that is there"},
			&cli.BoolFlag{Name: "force", Usage: "write over files"},
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
		path, err := mint.NewSheet(in, c.Bool("force"))
		if err == nil {
			fmt.Fprintln(a.Stdout, path)
		}
		return err
	}
	if c.NArg() > 1 {
		return misuse{errors.New("new takes one folder: mintbatch new [FOLDER]")}
	}
	dir := "."
	if c.Args().Present() {
		dir = c.Args().First()
	}
	written, err := mint.New(dir, c.Bool("force"))
	for _, path := range written {
		fmt.Fprintln(a.Stdout, path)
	}
	return err
}
