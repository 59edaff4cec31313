package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"mintbatch/internal/mint"
)

func (a *App) consoleCommand() *cli.Command {
	return &cli.Command{
		Name:      "console",
		Usage:     "attach to the serial console of a machine",
		ArgsUsage: "MACHINE",
		Description: "Connects this terminal to the machine's serial console; press Ctrl-] to disconnect. In a pipe,\n" +
			"standard input is sent to the console, and its end disconnects.\n\n" +
			"   mintbatch console bms-sonar-01\n   mintbatch console bms-sonar-01 --screen screen.png",
		Flags:  []cli.Flag{&cli.StringFlag{Name: "screen", Usage: "write a screenshot of the machine to `FILE` instead"}, forceFlag(overFiles)},
		Action: a.withSetup(exactlyOne("name one machine: mintbatch console MACHINE"), a.console, "ledger", "sites"),
	}
}

// leave is Ctrl-], which ends a console.
const leave = 0x1d

func (a *App) console(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	name := c.Args().First()
	if path := c.String("screen"); path != "" {
		return s.Screen(ctx, name, path, over(c))
	}
	if err := s.Knows(ctx, name); err != nil {
		return err
	}
	fmt.Fprintf(a.Stderr, "connecting to the console of %s; press Ctrl-] to disconnect\n", name)
	if f, ok := a.Stdin.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		was, err := term.MakeRaw(int(f.Fd()))
		if err != nil {
			return err
		}
		defer func() {
			_ = term.Restore(int(f.Fd()), was)
			fmt.Fprintln(a.Stderr)
		}()
	}
	return s.Console(ctx, name, &untilLeave{from: a.Stdin}, raw(a.Stdout))
}

// untilLeave reads until Ctrl-] is typed.
type untilLeave struct{ from io.Reader }

// Read implements io.Reader.
func (u *untilLeave) Read(p []byte) (int, error) {
	n, err := u.from.Read(p)
	if i := bytes.IndexByte(p[:n], leave); i >= 0 {
		return i, io.EOF
	}
	return n, err
}
