package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/handover"
	"mintbatch/internal/sandbox"
)

func (a *App) demoCommand() *cli.Command {
	return &cli.Command{
		Name:  "demo",
		Usage: "run the full example on the sandbox, from check to list",
		Description: "Creates a folder with a setup and a sheet, serves the sandbox for them and runs the commands one\n" +
			"after the other. Nothing outside the folder is changed.\n\n" +
			"   mintbatch demo\n   mintbatch demo --dir /tmp/survey",
		Flags:  []cli.Flag{&cli.StringFlag{Name: "dir", Value: "mintbatch-demo", Usage: "the `FOLDER` to create"}},
		Action: a.demo,
	}
}

// demoSpeed makes the sandbox so much faster than a real manager.
const demoSpeed = 16

// demoLines are the commands of the demo, each after what somebody else has done, if anything.
var demoLines = []struct {
	before string
	do     func(dir string) error
	line   []string
}{
	{line: []string{"check"}}, {line: []string{"proof"}}, {line: []string{"mint", "--yes"}}, {line: []string{"list"}}, {line: []string{"mint", "--yes"}},
	{"The tide desk puts a sheet into the folder for requests.", func(dir string) error { return handover.DemoRequest(dir, false) }, []string{"intake", "--once"}},
	{"What is wrong is beside it, by cell. The tide desk mends it and sends it again.", func(dir string) error { return handover.DemoRequest(dir, true) }, []string{"intake", "--once"}},
	{line: []string{"request", "approve", "--yes"}}, {line: []string{"intake", "--once"}}, {line: []string{"quota"}},
	{"The classroom has desktop hypervisors without any interface: its machines are folders.", func(dir string) error { return handover.DemoClassroom(context.Background(), dir) }, []string{"mint", "--yes", "--setup", "classroom.yaml"}},
	{line: []string{"template", "list", "--setup", "classroom.yaml"}}, {line: []string{"handout", "stick", "bms-desk-0[1-3]", "--setup", "classroom.yaml"}},
}

func (a *App) demo(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	dir := c.String("dir")
	if err := handover.CheckDemo(dir); err != nil {
		return err
	}
	s, err := sandbox.Open(sandbox.Options{Dir: filepath.Join(dir, "sandbox"), Plan: sandbox.DemoPlan(), Speed: demoSpeed})
	if err != nil {
		return err
	}
	serving, end := context.WithCancel(ctx)
	served := make(chan error, 1)
	go func() { served <- s.Serve(serving) }()
	defer func() { end(); <-served }()
	if err := handover.WriteDemo(dir, handover.Demo{URL: s.URL, Fingerprint: s.Fingerprint.String(), DNS: s.Names.Address, Requests: true}); err != nil {
		return err
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	fmt.Fprintf(a.Stdout, "The demo's setup, sheet and sandbox are in %s.\n", dir)
	for _, l := range demoLines {
		if l.do != nil {
			fmt.Fprintf(a.Stdout, "\n%s\n", l.before)
			if err := l.do(dir); err != nil {
				return err
			}
		}
		fmt.Fprintf(a.Stdout, "\n%s\n", p.paint("$ mintbatch "+strings.Join(l.line, " "), text.Bold, text.FgHiYellow))
		if err := a.rerunHint(ctx, dir, l.line); err != nil {
			return err
		}
	}
	fmt.Fprintf(a.Stdout, `
Continue in this folder; the sandbox keeps its state:

  cd %s
  mintbatch sandbox          (in a terminal of its own)
  mintbatch list
  mintbatch show bms-sonar-01
  mintbatch secret show bms-sonar-01
  edit machines.csv, then: mintbatch proof
`, dir)
	if _, err := exec.LookPath("mintbatch"); err != nil {
		fmt.Fprintln(a.Stdout, "\n(mintbatch is not on your path yet: `go install ./cmd/mintbatch` in its source puts it into Go's bin folder)")
	}
	return nil
}

// stream is what a child writes to, a terminal if this program has one.
func stream(w io.Writer) io.Writer {
	if f, ok := asFile(w); ok {
		return f
	}
	return raw(w)
}

// rerunHint runs this very program in the folder, as its user would.
func (a *App) rerunHint(ctx context.Context, dir string, args []string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	command := exec.CommandContext(ctx, self, args...)
	command.Dir = dir
	command.Stdin, command.Stdout, command.Stderr = a.Stdin, stream(a.Stdout), stream(a.Stderr)
	command.Env = append(os.Environ(), "MINTBATCH_SETUP=mintbatch.yaml")
	if err := command.Run(); err != nil {
		return fmt.Errorf("mintbatch %s: %w", strings.Join(args, " "), err)
	}
	return nil
}
