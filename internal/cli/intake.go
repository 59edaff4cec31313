package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/mint"
	"mintbatch/internal/request"
)

func (a *App) intakeCommand() *cli.Command {
	return &cli.Command{
		Name:  "intake",
		Usage: "take in sheets that people send, answer them, and make what was approved",
		Description: "Looks at the sources of the setup's `requests` again and again: each sheet that has come is checked by the\n" +
			"rule that is for it, and answered; requests that were approved are minted, and their senders told. It may\n" +
			"be ended at any moment, and several may work on one ledger. For use from a timer: --once looks once.\n\n" +
			"   mintbatch intake\n   mintbatch intake --once",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "once", Usage: "look once, do what can be done, and end"},
			&cli.DurationFlag{Name: "every", Value: 15 * time.Second, Usage: "how often to look"},
		},
		Action: a.intake,
	}
}

// unattended is a command that nobody sits in front of: what it does was approved before.
type unattended struct{ *operator }

// Interactive reports that nobody can be asked.
func (unattended) Interactive() bool { return false }

// Confirm asks nothing.
func (unattended) Confirm(mint.Question) error { return nil }

// office is where the requests of the setup are dealt with.
func (a *App) office(c *cli.Command) (*request.Office, error) {
	in, err := a.input(c)
	if err != nil {
		return nil, err
	}
	told := func(line string) { fmt.Fprintln(a.Stdout, visible(time.Now().Format("15:04:05 ")+line)) }
	return &request.Office{Input: in, Log: a.log(c), Stop: a.stop, Told: told, Console: unattended{&operator{App: a, c: c}}}, nil
}

func (a *App) intake(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	if c.Duration("every") < time.Second {
		return misuse{errors.New("--every must be a second or more")}
	}
	o, err := a.office(c)
	if err != nil {
		return err
	}
	if c.Bool("once") {
		return o.Once(ctx)
	}
	for {
		err := o.Once(ctx)
		if errors.Is(err, request.ErrNoSources) {
			return err
		}
		if err != nil && a.stop.Err() == nil {
			fmt.Fprintf(a.Stderr, "%s mintbatch: %s\n", time.Now().Format("15:04:05"), visible(err.Error()))
		}
		if o.Await(a.stop, c.Duration("every")); a.stop.Err() != nil {
			return nil
		}
	}
}
