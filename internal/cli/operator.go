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

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/run"
)

// operator is the terminal of a command as use cases see it.
type operator struct {
	*App
	c    *cli.Command
	desk *mint.Desk
	log  *os.File // what --events names; made once something is begun
}

var _ mint.Console = (*operator)(nil)

// Waiting reports whom the command waits for.
func (o *operator) Waiting(by *ledger.Busy) {
	fmt.Fprintf(o.Stderr, "waiting: %s\n", visible(by.Error()))
}

// Interactive reports whether somebody can be asked.
func (o *operator) Interactive() bool { return !o.c.Bool("yes") }

// Confirm asks for a confirmation, unless --yes is given.
func (o *operator) Confirm(q mint.Question) error {
	if o.c.Bool("yes") {
		return nil
	}
	if q.Before != "" {
		fmt.Fprintf(o.Stderr, "\n%s\n", visible(q.Before))
	}
	return o.ask(q.Text, q.Word)
}

// Watch shows the progress of works.
func (o *operator) Watch(works []proof.Work) (watch func(run.Event), done func()) {
	progress := o.newProgress(o.c, works)
	o.working.Store(true)
	return progress.watch, func() {
		o.working.Store(false)
		progress.end()
	}
}

// Boundary is that of the program.
func (o *operator) Boundary() func(run.Boundary) { return o.App.Boundary }

// checkLog refuses what --events must not write to.
func (o *operator) checkLog() error {
	path := o.c.String("events")
	switch {
	case path == "-" && o.c.Bool("json"):
		return misuse{errors.New("--json and --events - both write to standard output; give --events a file")}
	case path == "" || path == "-":
		return nil
	}
	return o.desk.Guard().Check(path, over(o.c))
}

// Log opens what --events names.
func (o *operator) Log() (w io.Writer, err error) {
	switch path := o.c.String("events"); {
	case path == "":
		return io.Discard, nil
	case path == "-":
		return raw(o.Stdout), nil
	case o.log == nil:
		o.log, err = o.desk.Guard().Create(path, over(o.c), 0o600)
	}
	return o.log, err
}

// lock waits until no other run is in the way.
func (a *App) lock(ctx context.Context, c *cli.Command, d *mint.Desk, scope mint.Scope) error {
	return d.Lock(ctx, a.stop, &operator{App: a, c: c, desk: d}, strings.TrimPrefix(c.FullName(), "mintbatch "), scope)
}

// perform lets a task be done, as this terminal's operator wants it. Without an outcome
// nothing was begun.
func (a *App) perform(ctx context.Context, c *cli.Command, d *mint.Desk, t mint.Task, q mint.Question) (*mint.Outcome, error) {
	o := &operator{App: a, c: c, desk: d}
	if err := o.checkLog(); err != nil {
		return nil, err
	}
	defer func() {
		if o.log != nil {
			_ = o.log.Close()
		}
	}()
	outcome, err := d.Perform(ctx, a.stop, o, t, q)
	if outcome != nil && outcome.LogFailure != nil {
		fmt.Fprintf(a.Stderr, "mintbatch: the log of the run is incomplete: %s\n", visible(outcome.LogFailure.Error()))
	}
	if outcome != nil && len(outcome.Waiting) > 0 {
		first := outcome.Waiting[0]
		fmt.Fprintf(a.Stderr, "%s not sent yet, and waiting in the outbox: %s\n`mintbatch outbox send` sends what is waiting, and so does the next run\n", finding.Plural(len(outcome.Waiting), "notice"), visible(first.Notice+": "+first.Error))
	}
	return outcome, err
}

// ask puts a question before anything is done, and goes on only when it is
// answered by the word. Where nobody can answer, nothing is done.
func (a *App) ask(question, word string) error {
	if _, ok := terminal(a.Stdin); !ok {
		return misuse{errors.New("there is no terminal to ask for confirmation; give --yes to go ahead without it")}
	}
	fmt.Fprintf(a.Stderr, "\n%s Type %s to go ahead: ", question, word)
	answer := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(a.Stdin).ReadString('\n')
		answer <- strings.ToLower(strings.TrimSpace(line))
	}()
	select {
	case <-a.stop.Done():
		fmt.Fprintln(a.Stderr)
		return run.ErrStopped
	case said := <-answer:
		if said != word {
			return misuse{mint.ErrDeclined}
		}
	}
	return nil
}
