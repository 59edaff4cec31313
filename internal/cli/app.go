// Package cli is the command line: one file per command, which turns flags
// into a call of a use case and its result into a terminal view or JSON.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/sheet"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
)

// Version is set when a release is built.
var Version = "0.1-dev"

// The exit statuses.
const (
	exitDone        = 0
	exitIncomplete  = 1   // some machines are not as asked
	exitRefused     = 2   // the input or command line was refused
	exitUnreachable = 3   // a site, the ledger or another service
	exitInterrupted = 130 // and safe to run again
)

// App is the program with what it reads from and writes to.
type App struct {
	Stdin          io.Reader
	Stdout, Stderr io.Writer
	// Boundary is called at every boundary of every step; see run.Boundary.
	Boundary func(run.Boundary)

	stop  context.Context // ends when the run is told to stop
	plain bool            // nothing is drawn
}

// Main runs the program and returns its exit status.
func Main(args []string) int {
	app := &App{Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr}
	return app.Main(args)
}

// Main runs the program with the arguments, of which the first is its name.
func (a *App) Main(args []string) int {
	ctx, leave := context.WithCancel(context.Background())
	defer leave()
	stop, end := context.WithCancel(ctx)
	defer end()
	a.stop = stop
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		<-signals
		end()
		<-signals
		leave()
	}()
	err := a.command().Run(ctx, args)
	return a.exit(err, stop.Err() != nil)
}

// exit tells the error and gives the status that goes with it.
func (a *App) exit(err error, interrupted bool) int {
	status := exitRefused
	var refused *mint.Refused
	var incomplete *mint.Incomplete
	var done *told
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &done):
		return done.status
	case errors.As(err, &incomplete):
		status = exitIncomplete
		if incomplete.Stopped {
			status = exitInterrupted
		}
	case interrupted && (errors.Is(err, context.Canceled) || errors.Is(err, run.ErrStopped)):
		status, err = exitInterrupted, errors.New("stopped; it is safe to run the same command again")
	case errors.As(err, &refused):
		a.findings(a.Stderr, refused.Findings)
	case errors.Is(err, site.ErrUnreachable), errors.Is(err, ledger.ErrLedger):
		status = exitUnreachable
	}
	for line := range strings.Lines(err.Error()) {
		fmt.Fprintf(a.Stderr, "mintbatch: %s\n", visible(strings.TrimSpace(line)))
	}
	return status
}

// misuse is a command line that was refused.
type misuse struct{ error }

func (a *App) command() *cli.Command {
	root := &cli.Command{
		Name:      "mintbatch",
		Usage:     "make virtual machines from templates, each with its own customization, from an inventory sheet",
		Version:   Version,
		Writer:    a.Stdout,
		ErrWriter: a.Stderr,
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "setup", Value: []string{"mintbatch.yaml"}, Usage: "the setup `FILE`; given again, each is laid over those before", Sources: cli.EnvVars("MINTBATCH_SETUP")},
			&cli.StringFlag{Name: "sheet", Usage: "the sheet `FILE`; - is standard input (default: the one that the setup names)"},
			&cli.StringFlag{Name: "sheet-kind", Usage: "`KIND` of the sheet: csv, tsv, xlsx, ods, json, jsonl, yaml (default: its content tells)"},
			&cli.StringFlag{Name: "worksheet", Usage: "`NAME` of the worksheet to read"},
			&cli.BoolFlag{Name: "json", Usage: "print one JSON document"},
			&cli.BoolFlag{Name: "quiet", Usage: "print nothing but what went wrong"},
			&cli.BoolFlag{Name: "verbose", Usage: "tell each call to a site"},
			&cli.BoolFlag{Name: "plain", Usage: "plain sentences, one a line, and nothing drawn: for screen readers", Sources: cli.EnvVars("MINTBATCH_PLAIN")},
			&cli.BoolFlag{Name: "no-color", Usage: "no colour (also with NO_COLOR set)"},
		},
		Commands: []*cli.Command{
			a.demoCommand(), a.newCommand(), a.checkCommand(), a.proofCommand(), a.mintCommand(), a.listCommand(),
			a.showCommand(), a.verifyCommand(), a.remakeCommand(), a.retireCommand(), a.sweepCommand(), a.surveyCommand(), a.templateCommand(), a.consoleCommand(), a.runsCommand(), a.ledgerCommand(),
			a.reportCommand(), a.poolCommand(), a.historyCommand(), a.setupCommand(), a.secretCommand(), a.sandboxCommand(),
		},
		Before: func(ctx context.Context, c *cli.Command) (context.Context, error) {
			a.plain = c.Bool("plain")
			return ctx, nil
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return unknownCommand(c)
			}
			return cli.ShowAppHelp(c)
		},
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
	}
	refuseMisuse(root)
	return root
}

// refuseMisuse answers a misspelt option of any command with the nearest one.
func refuseMisuse(c *cli.Command) {
	c.HideHelpCommand = true
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		name, unknown := strings.CutPrefix(err.Error(), "flag provided but not defined: ")
		if !unknown {
			return misuse{err}
		}
		var known []string
		for _, command := range c.Lineage() {
			for _, f := range command.Flags {
				known = append(known, f.Names()...)
			}
		}
		name = strings.TrimLeft(name, "-")
		return misuse{fmt.Errorf("unknown option --%s (%s)", name, finding.DidYouMean(name, known))}
	}
	for _, sub := range c.Commands {
		refuseMisuse(sub)
	}
}

// group is the action of a command that only groups others.
func group(_ context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return unknownCommand(c)
	}
	return cli.ShowSubcommandHelp(c)
}

func unknownCommand(c *cli.Command) error {
	var known []string
	for _, sub := range c.Commands {
		known = append(known, sub.Name)
	}
	word := c.Args().First()
	return misuse{fmt.Errorf("unknown command %q (%s)", word, finding.DidYouMean(word, known))}
}

// noArguments refuses arguments for a command that takes none.
func noArguments(c *cli.Command) error {
	if c.Args().Present() {
		return misuse{fmt.Errorf("%s takes no arguments; %q is one", c.Name, c.Args().First())}
	}
	return nil
}

// noSubcommand refuses arguments for a command that also groups others.
func noSubcommand(c *cli.Command) error {
	if c.Args().Present() {
		return unknownCommand(c)
	}
	return nil
}

// atMostOne takes one argument or none; usage says what that is.
func atMostOne(usage string) func(*cli.Command) error {
	return func(c *cli.Command) error {
		if c.NArg() > 1 {
			return misuse{errors.New(usage)}
		}
		return nil
	}
}

// anyArguments takes whatever arguments there are.
func anyArguments(*cli.Command) error { return nil }

// exactlyOne takes one argument; usage says what that is.
func exactlyOne(usage string) func(*cli.Command) error {
	return func(c *cli.Command) error {
		if c.NArg() != 1 {
			return misuse{errors.New(usage)}
		}
		return nil
	}
}

// atLeastOne takes one argument or more; usage says what they are.
func atLeastOne(usage string) func(*cli.Command) error {
	return func(c *cli.Command) error {
		if !c.Args().Present() {
			return misuse{errors.New(usage)}
		}
		return nil
	}
}

func (a *App) input(c *cli.Command) (mint.Input, error) {
	in := mint.Input{Setups: c.StringSlice("setup"), Sheet: c.String("sheet"), Worksheet: c.String("worksheet"), Stdin: a.Stdin}
	if name := c.String("sheet-kind"); name != "" {
		kind, ok := sheet.ParseKind(name)
		if !ok {
			return in, misuse{fmt.Errorf("unknown kind of sheet %q (known: csv, tsv, xlsx, ods, json, jsonl, yaml)", name)}
		}
		in.Kind = kind
	}
	return in, nil
}

// open opens the batch for a command that works on it.
func (a *App) open(ctx context.Context, c *cli.Command) (*mint.Session, error) {
	in, err := a.input(c)
	if err != nil {
		return nil, err
	}
	return mint.Open(ctx, in, a.log(c))
}

// openSetup is open for a command that needs no sheet.
func (a *App) openSetup(ctx context.Context, c *cli.Command) (*mint.Session, error) {
	in, err := a.input(c)
	if err != nil {
		return nil, err
	}
	return mint.OpenSetup(ctx, in, a.log(c))
}

// sessionAction is an action on an opened setup and its ledger.
type sessionAction func(ctx context.Context, c *cli.Command, s *mint.Session) error

// withSetup is the action of a command that needs no sheet. The command line is
// checked before anything is opened.
func (a *App) withSetup(arguments func(*cli.Command) error, do sessionAction) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if err := arguments(c); err != nil {
			return err
		}
		s, err := a.openSetup(ctx, c)
		if err != nil {
			return err
		}
		defer s.Close()
		return do(ctx, c, s)
	}
}

// withHeld is withSetup for a command that other runs have to wait for.
func (a *App) withHeld(arguments func(*cli.Command) error, do sessionAction) cli.ActionFunc {
	return a.withSetup(arguments, func(ctx context.Context, c *cli.Command, s *mint.Session) error {
		if err := a.hold(ctx, c, s, mint.Everything); err != nil {
			return err
		}
		return do(ctx, c, s)
	})
}

func (a *App) log(c *cli.Command) *slog.Logger {
	if !c.Bool("verbose") {
		return nil
	}
	return slog.New(slog.NewTextHandler(a.Stderr, &slog.HandlerOptions{Level: slog.LevelDebug}))
}
