package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/setup"
	"mintbatch/internal/input"
	"mintbatch/internal/mint"
)

func (a *App) setupCommand() *cli.Command {
	return &cli.Command{
		Name:        "setup",
		Usage:       "check the setup file or print its schema",
		Description: "   mintbatch setup check\n   mintbatch setup schema >mintbatch.schema.json",
		Action:      group,
		Commands: []*cli.Command{
			{Name: "check", Usage: "check the setup alone; print findings", Action: a.setupCheck, Description: "   mintbatch setup check --setup office.yaml --setup friday.yaml"},
			{Name: "schema", Usage: "print the JSON Schema of the setup, for editors", Action: a.setupSchema,
				Description: "The schema is JSON Schema draft 2020-12. Many editors read it from a first line such as\n\n" +
					"   # yaml-language-server: $schema=mintbatch.schema.json"},
		},
	}
}

func (a *App) setupSchema(context.Context, *cli.Command) error {
	_, err := raw(a.Stdout).Write(setup.SchemaText())
	return err
}

func (a *App) setupCheck(_ context.Context, c *cli.Command) error {
	in, err := a.input(c)
	if err != nil {
		return err
	}
	found, err := mint.CheckSetup(in)
	var refused *input.Refused
	if err != nil && !errors.As(err, &refused) {
		return err
	}
	a.findings(a.Stdout, found)
	if refused != nil {
		return &reported{exitRefused}
	}
	fmt.Fprintln(a.Stdout, "no findings")
	return nil
}
