package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"mintbatch/internal/core/machine"
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
			{Name: "set", Usage: "seal a value of your own, read from standard input", ArgsUsage: "NAME", Action: a.secretSet,
				Description: "Rows and setup refer to it as secret:NAME. It is never taken from the command line, where\nothers could see it.\n\n   mintbatch secret set field-login\n   pass-generator | mintbatch secret set field-login"},
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
	s, err := a.openSetup(ctx, c)
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

func (a *App) secretSet(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return misuse{errors.New("set takes one name; the value is read from standard input: mintbatch secret set NAME")}
	}
	name := c.Args().First()
	if err := machine.CheckLabel(name); err != nil {
		return misuse{fmt.Errorf("secret name %q: %w", name, err)}
	}
	value, err := a.readSecret(name)
	if err != nil {
		return err
	}
	if value == "" {
		return misuse{errors.New("the value is empty; nothing was sealed")}
	}
	s, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.SetSecret(ctx, name, value); err != nil {
		return err
	}
	fmt.Fprintf(a.Stderr, "sealed; refer to it as secret:%s\n", name)
	return nil
}

// readSecret prompts on a terminal without showing what is typed, and reads
// one line elsewhere.
func (a *App) readSecret(name string) (string, error) {
	if f, ok := a.Stdin.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprintf(a.Stderr, "value of %s: ", name)
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.Stderr)
		return string(b), err
	}
	line, err := bufio.NewReader(a.Stdin).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	return strings.TrimRight(line, "\r\n"), nil
}
