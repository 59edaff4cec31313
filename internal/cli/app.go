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
	"sync/atomic"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/sheet"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/request"
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
	wide  bool            // no column of a table is left out

	working atomic.Bool // machines are being worked on
	paging  atomic.Bool // a pager has the terminal
}

// Main runs the program and returns its exit status.
func Main(args []string) int {
	app := &App{Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr}
	return app.Main(args)
}

// interruptedText is printed for a command that was told to end.
const interruptedText = "mintbatch: Interrupted. Run the same command again to continue."

// grace is how long a command that is told to leave at once may take to do so.
const grace = 1500 * time.Millisecond

// Main runs the program with the arguments, of which the first is its name.
func (a *App) Main(args []string) int {
	a.Stdout, a.Stderr = onScreen(a.Stdout), onScreen(a.Stderr)
	ctx, leave := context.WithCancel(context.Background())
	defer leave()
	stop, end := context.WithCancel(ctx)
	defer end()
	a.stop = stop
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		for <-signals; a.paging.Load(); <-signals {
			// It is for the pager, which has the terminal.
		}
		end()
		if a.working.Load() { // machines that are being worked on come to their end
			<-signals
		}
		leave()
		time.Sleep(grace)
		fmt.Fprintln(a.Stderr, interruptedText)
		os.Exit(exitInterrupted) // out of what does not end, such as reading a pipe that nobody writes to
	}()
	signal.Ignore(syscall.SIGPIPE) // whoever no longer reads does not end what is under way
	err := a.command().Run(ctx, args)
	if hungUp(a.Stdout) && (err == nil || errors.Is(err, syscall.EPIPE)) {
		return exitDone // whoever reads has seen enough
	}
	var told *reported
	if unwritten := failed(a.Stdout); unwritten != nil && (err == nil || errors.As(err, &told) || errors.Is(err, errors.Unwrap(unwritten))) {
		fmt.Fprintf(a.Stderr, "mintbatch: %s\n", unwritten)
		return exitUnreachable
	}
	return a.exit(err, stop.Err() != nil)
}

// exit reports the error and gives the status that goes with it.
func (a *App) exit(err error, interrupted bool) int {
	status := exitRefused
	var refused *input.Refused
	var incomplete *mint.Incomplete
	var done *reported
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
		fmt.Fprintln(a.Stderr, interruptedText)
		return exitInterrupted
	case errors.As(err, &refused):
		a.findings(a.Stderr, refused.Findings)
	case errors.Is(err, site.ErrUnreachable), errors.Is(err, ledger.ErrLedger), errors.Is(err, request.ErrSource):
		status = exitUnreachable
	}
	if errors.Is(err, syscall.EMFILE) {
		fmt.Fprintln(a.Stderr, "mintbatch: the limit of open files is too low; raise it, for example with `ulimit -n 1024`, and run the same command again")
	}
	told := map[string]bool{} // a site that was asked twice says so twice
	for _, one := range parts(err) {
		if !told[one] {
			fmt.Fprintf(a.Stderr, "mintbatch: %s\n", visible(strings.TrimSpace(one)))
		}
		told[one] = true
	}
	return status
}

// parts are the errors that were joined, each of which is reported in a line of its own.
func parts(err error) []string {
	joined, ok := err.(interface{ Unwrap() []error })
	if !ok {
		return []string{err.Error()}
	}
	var all, lines []string
	for _, one := range joined.Unwrap() {
		all = append(all, one.Error())
		lines = append(lines, parts(one)...)
	}
	if strings.Join(all, "\n") != err.Error() { // they are worded together
		return []string{err.Error()}
	}
	return lines
}

// misuse is a command line that was refused.
type misuse struct{ error }

func (a *App) command() *cli.Command {
	root := &cli.Command{
		Name:      "mintbatch",
		Usage:     "deploy virtual machines from templates, each customized by its row of an inventory sheet",
		Version:   Version,
		Writer:    a.Stdout,
		ErrWriter: a.Stderr,
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "setup", Value: []string{"mintbatch.yaml"}, Usage: "the setup `FILE`; may be repeated, and a later file overrides the earlier ones", Sources: cli.EnvVars("MINTBATCH_SETUP")},
			&cli.StringFlag{Name: "sheet", Usage: "the sheet `FILE`; - is standard input (default: the one that the setup names)"},
			&cli.StringFlag{Name: "sheet-kind", Usage: "`KIND` of the sheet: csv, tsv, xlsx, ods, json, jsonl, yaml (default: detected from its content)"},
			&cli.StringFlag{Name: "worksheet", Usage: "`NAME` of the worksheet to read"},
			&cli.BoolFlag{Name: "json", Usage: "print one JSON document"},
			&cli.BoolFlag{Name: "quiet", Usage: "print errors only"},
			&cli.BoolFlag{Name: "verbose", Usage: "log each request to a site"},
			&cli.BoolFlag{Name: "wide", Usage: "leave out no column of a table: those without room go on below their row"},
			pagerFlag(),
			&cli.BoolFlag{Name: "plain", Usage: "plain lines without tables or progress bars, for screen readers", Sources: cli.EnvVars("MINTBATCH_PLAIN")},
			&cli.BoolFlag{Name: "no-color", Usage: "no colour (also with NO_COLOR set)"},
		},
		Commands: []*cli.Command{
			a.demoCommand(), a.newCommand(), a.checkCommand(), a.proofCommand(), a.mintCommand(), a.listCommand(),
			a.showCommand(), a.verifyCommand(), a.remakeCommand(), a.acceptCommand(), a.powerCommand(), a.checkpointCommand(), a.renameCommand(), a.retireCommand(), a.sweepCommand(), a.extendCommand(), a.intakeCommand(), a.requestCommand(), a.quotaCommand(), a.surveyCommand(), a.templateCommand(), a.libraryCommand(), a.consoleCommand(), a.runsCommand(), a.ledgerCommand(),
			a.reportCommand(), a.poolCommand(), a.historyCommand(), a.outboxCommand(), a.findCommand(), a.packCommand(), a.unpackCommand(), a.diskCommand(), a.exportCommand(), a.handoutCommand(), a.setupCommand(), a.secretCommand(), a.sandboxCommand(), a.completionCommand(), a.manualCommand(),
			{Name: "help", Usage: "explain a command", ArgsUsage: "[COMMAND...]", Action: help},
		},
		Before: func(ctx context.Context, c *cli.Command) (context.Context, error) {
			a.plain, a.wide = c.Bool("plain"), c.Bool("wide")
			return ctx, nil
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return noCommand(c, c.Args().First())
			}
			return cli.ShowAppHelp(c)
		},
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
	}
	refuseMisuse(root)
	cli.ShowCommandHelp = helpOf
	cli.HelpPrinter = func(w io.Writer, _ string, of any) { showHelp(w, a.painter(a.Stdout, false), of.(*cli.Command)) }
	cli.VersionPrinter = func(c *cli.Command) { fmt.Fprintln(c.Root().Writer, version()) }
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
				known = append(known, f.Names()[0])
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
		return noCommand(c, c.Args().First())
	}
	return cli.ShowSubcommandHelp(c)
}

// noCommand says that a command groups none of a name.
func noCommand(c *cli.Command, word string) error {
	if hint, ok := meant[word]; ok && c.Root() == c {
		return misuse{fmt.Errorf("unknown command %q (%s)", word, hint)}
	}
	var known []string
	for _, sub := range c.Commands {
		known = append(known, sub.Name)
	}
	return misuse{fmt.Errorf("unknown command %q (%s)", word, finding.DidYouMeanOf(word, known, c.FullName()+" --help"))}
}

// meant are words that people try, and what does what they mean.
var meant = map[string]string{
	"init":   "`mintbatch new` creates a starter setup and sheet",
	"create": "`mintbatch mint` makes the machines of the sheet",
	"deploy": "`mintbatch mint` makes the machines of the sheet",
	"clone":  "`mintbatch mint` makes the machines of the sheet",
	"start":  "`mintbatch power on` starts machines that are made",
	"stop":   "`mintbatch power off` shuts machines down; `mintbatch sweep --stop` those past their date",
	"delete": "`mintbatch retire` deletes machines",
	"remove": "`mintbatch retire` deletes machines",
	"status": "`mintbatch list` shows the state of the machines",
}

// noArguments refuses arguments for a command that takes none.
func noArguments(c *cli.Command) error {
	if c.Args().Present() {
		return misuse{fmt.Errorf("unexpected argument %[2]q: %[1]s takes none", c.Name, c.Args().First())}
	}
	return nil
}

// noSubcommand refuses arguments for a command that also groups others.
func noSubcommand(c *cli.Command) error {
	if c.Args().Present() {
		return noCommand(c, c.Args().First())
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

func (a *App) input(c *cli.Command) (input.Input, error) {
	in := input.Input{Setups: c.StringSlice("setup"), Sheet: c.String("sheet"), Worksheet: c.String("worksheet"), Stdin: a.Stdin}
	if !c.Bool("quiet") {
		in.Notice = func(text string) { fmt.Fprintln(a.Stderr, visible(text)) }
	}
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
func (a *App) open(ctx context.Context, c *cli.Command) (*mint.Desk, error) {
	in, err := a.input(c)
	if err != nil {
		return nil, err
	}
	return mint.Open(ctx, in, a.log(c))
}

// openNamed is open for a command that is about the machines which it is given, if
// any: the rows of others may have errors.
func (a *App) openNamed(ctx context.Context, c *cli.Command) (*mint.Desk, error) {
	return a.openFor(ctx, c, c.Args().Slice())
}

// openFor is openNamed for machines that are named.
func (a *App) openFor(ctx context.Context, c *cli.Command, names []string) (*mint.Desk, error) {
	in, err := a.input(c)
	if err != nil {
		return nil, err
	}
	in.Names = names
	return mint.Open(ctx, in, a.log(c))
}

// openSetup is open for a command that needs no sheet, and perhaps only some parts of
// the setup.
func (a *App) openSetup(ctx context.Context, c *cli.Command, parts ...string) (*mint.Desk, error) {
	in, err := a.input(c)
	if err != nil {
		return nil, err
	}
	in.Parts = parts
	return mint.OpenSetup(ctx, in, a.log(c))
}

// openWithSheet is open where a sheet is named, and else openSetup.
func (a *App) openWithSheet(ctx context.Context, c *cli.Command) (*mint.Desk, error) {
	in, err := a.input(c)
	if err != nil {
		return nil, err
	}
	return mint.OpenAny(ctx, in, a.log(c))
}

// deskAction is an action on an opened setup and its ledger.
type deskAction func(ctx context.Context, c *cli.Command, s *mint.Desk) error

// withSetup is the action of a command that needs no sheet. The command line is
// checked before anything is opened. Parts are those of the setup that it uses.
func (a *App) withSetup(arguments func(*cli.Command) error, do deskAction, parts ...string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if err := arguments(c); err != nil {
			return err
		}
		s, err := a.openSetup(ctx, c, parts...)
		if err != nil {
			return err
		}
		defer s.Close()
		return do(ctx, c, s)
	}
}

// withLock is withSetup for a command that other runs have to wait for.
func (a *App) withLock(arguments func(*cli.Command) error, do deskAction) cli.ActionFunc {
	return a.withScope(arguments, func(*cli.Command) mint.Scope { return mint.Everything }, do)
}

// withScope is withLock for a command that only those have to wait for that work on the same things.
func (a *App) withScope(arguments func(*cli.Command) error, scope func(*cli.Command) mint.Scope, do deskAction) cli.ActionFunc {
	return a.withSetup(arguments, func(ctx context.Context, c *cli.Command, s *mint.Desk) error {
		if err := a.lock(ctx, c, s, scope(c)); err != nil {
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
