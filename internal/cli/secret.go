package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/mint"
)

func (a *App) secretCommand() *cli.Command {
	return &cli.Command{
		Name:        "secret",
		Usage:       "keys and sealed values",
		Description: "   mintbatch secret keygen operator.key\n   mintbatch secret show bms-sonar-01",
		Action:      group,
		Commands: []*cli.Command{
			{Name: "keygen", Usage: "make an identity file and print its recipient", ArgsUsage: "FILE", Action: a.secretKeygen,
				Description: "The recipient goes into the setup, under secrets: recipients. Whoever has the file can\nread what is sealed to it; keep a copy in a safe place.\n\n   mintbatch secret keygen operator.key"},
			{Name: "show", Usage: "print the sealed password of a machine", ArgsUsage: "MACHINE", Action: a.secretShow,
				Description: "   mintbatch secret show bms-sonar-01"},
		},
	}
}

func (a *App) secretKeygen(_ context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return misuse{errors.New("keygen takes one file: mintbatch secret keygen FILE")}
	}
	recipient, err := mint.NewIdentity(c.Args().First())
	if err != nil {
		return err
	}
	fmt.Fprintln(a.Stdout, recipient)
	return nil
}

func (a *App) secretShow(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return misuse{errors.New("show takes one machine: mintbatch secret show MACHINE")}
	}
	s, err := mint.OpenSetup(ctx, a.input(c), a.log(c))
	if err != nil {
		return err
	}
	defer s.Close()
	password, err := s.Password(ctx, c.Args().First())
	if err != nil {
		return err
	}
	fmt.Fprintln(a.Stdout, password)
	return nil
}
