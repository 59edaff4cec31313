package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
)

// hold waits for the ledger while others have it, or work on the machines in
// the scope.
func (a *App) hold(ctx context.Context, c *cli.Command, s *mint.Session, scope mint.Scope) error {
	for told := ""; ; {
		err := s.HoldLedger(ctx, strings.TrimPrefix(c.FullName(), "mintbatch "), scope)
		var busy *ledger.Busy
		if !errors.As(err, &busy) {
			return err
		}
		if told != busy.Error() {
			told = busy.Error()
			fmt.Fprintf(a.Stderr, "waiting: %s\n", visible(told))
		}
		select {
		case <-a.stop.Done():
			return fmt.Errorf("%w: %s", run.ErrStopped, busy)
		case <-time.After(200 * time.Millisecond):
		}
	}
}

func eventsFlag() cli.Flag {
	return &cli.StringFlag{Name: "events", Usage: "also write the log of the run, JSON Lines, to `FILE` as it goes on; - is standard output, which then has nothing else"}
}

func keepHostKeyFlag() cli.Flag {
	return &cli.BoolFlag{Name: "keep-host-key", Usage: "a machine that is made again keeps its SSH host key, so that nobody's known_hosts has to change"}
}

func keepDisksFlag() cli.Flag {
	return &cli.BoolFlag{Name: "keep-disks", Usage: "leave the disks of machines that are retired where they are"}
}

// disksAfter tells what becomes of the disks of machines that are retired.
func disksAfter(c *cli.Command) survey.Disks {
	if c.Bool("keep-disks") {
		return survey.KeepDisks
	}
	return survey.DeleteDisks
}

func forceOffFlag() cli.Flag {
	return &cli.BoolFlag{Name: "force-off", Usage: "cut the power of a guest that has to shut down and does not"}
}

// streams tells whether the log of the run goes to standard output.
func (a *App) streams(c *cli.Command) bool { return c.String("events") == "-" }

// eventStream opens what --events names.
func (a *App) eventStream(c *cli.Command) (io.WriteCloser, error) {
	switch path := c.String("events"); path {
	case "":
		return nopCloser{io.Discard}, nil
	case "-":
		return nopCloser{a.Stdout}, nil
	default:
		return os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	}
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }

// claim keeps the machines of some work for a run, and gives them back if the
// question is not answered by yes.
func (a *App) claim(ctx context.Context, c *cli.Command, s *mint.Session, todo []proof.Work, ask func() error) error {
	if a.streams(c) && c.Bool("json") {
		return misuse{errors.New("--json and --events - both want standard output; give --events a file")}
	}
	if err := s.Claim(ctx, c.Name, todo); err != nil {
		return err
	}
	if len(todo) == 0 || c.Bool("yes") {
		return nil
	}
	if err := ask(); err != nil {
		return errors.Join(err, s.Disclaim(ctx))
	}
	return nil
}

// task is something that is done to machines: asked for, and shown as it goes on.
type task struct {
	works []proof.Work
	order mint.Order
	ask   func() error
	do    func(works []proof.Work, o mint.Order) (*mint.Minted, error)
}

// perform keeps the machines of a task for a run, asks and does it. Without a
// result nothing was begun. Guests that had to shut down and did not are asked
// about where somebody can answer.
func (a *App) perform(ctx context.Context, c *cli.Command, s *mint.Session, t task) (*mint.Minted, error) {
	came, err := a.once(ctx, c, s, t)
	if came == nil || t.order.ForceOff || c.Bool("yes") || a.stop.Err() != nil {
		return came, err
	}
	var names []string
	t.works = nil
	for _, r := range came.Results {
		if errors.Is(r.Err, site.ErrDeaf) {
			t.works, names = append(t.works, r.Work), append(names, visible(r.Name))
		}
	}
	if len(names) == 0 {
		return came, err
	}
	t.order.ForceOff = true
	t.ask = func() error {
		fmt.Fprintf(a.Stderr, "\nnot shut down when asked to: %s\n", strings.Join(names, " "))
		return a.ask(fmt.Sprintf("Cut the power of %s, as if a cable was pulled, and go on?", plural(len(names), "machine")), "yes")
	}
	if err := a.hold(ctx, c, s, mint.Of(t.works)); err != nil {
		return came, err
	}
	later, failed := a.once(ctx, c, s, t)
	if later == nil {
		var no misuse
		if errors.As(failed, &no) { // an answer that leaves things as they are
			failed = nil
		}
		return came, errors.Join(err, failed)
	}
	came.Amend(later)
	return came, came.Outcome(a.stop)
}

func (a *App) once(ctx context.Context, c *cli.Command, s *mint.Session, t task) (*mint.Minted, error) {
	if err := a.claim(ctx, c, s, t.works, t.ask); err != nil {
		return nil, err
	}
	stream, err := a.eventStream(c)
	if err != nil {
		return nil, errors.Join(err, s.Disclaim(ctx))
	}
	defer stream.Close()
	progress := a.newProgress(c, t.works)
	defer progress.end()
	t.order.Events, t.order.Watch, t.order.Boundary = stream, progress.watch, a.Boundary
	return t.do(t.works, t.order)
}

// ask puts the question before anything is done, and goes on only when it is
// answered by the word. Where nobody can answer, nothing is done.
func (a *App) ask(question, word string) error {
	if _, ok := terminal(a.Stdin); !ok {
		return misuse{errors.New("there is no terminal to ask at; give --yes to go ahead without a question")}
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
			return misuse{errors.New("nothing was done")}
		}
	}
	return nil
}

// closing tells what was done, in a word if it was no work of a proof, and what
// was not and why.
func (a *App) closing(c *cli.Command, m *mint.Minted, word string, strays int) {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	var cells [][]string
	done := map[proof.Word]int{}
	var failed, stopped int
	for _, r := range m.Results {
		line := []string{string(r.Word), visible(r.Name), r.Site, p.paint("done", text.FgHiCyan), fmt.Sprintf("%.1fs", r.Took.Seconds()), ""}
		switch {
		case r.Err == nil:
			done[r.Word]++
			if c.Bool("quiet") {
				continue
			}
		case errors.Is(r.Err, run.ErrStopped):
			stopped++
			line[3], line[5] = "stopped", strings.TrimSuffix(at(r.Step), ": ")
		default:
			failed++
			line[3], line[5] = p.paint("failed", text.FgHiRed), at(r.Step)+visible(r.Err.Error())
		}
		cells = append(cells, line)
	}
	for _, w := range m.Refused {
		hint := ""
		switch w.Word {
		case proof.Remake:
			hint = "; give --allow-remake to clone it again, which loses what its disk holds"
		case proof.Adjust:
			hint = "; shut it down first, or write power: on"
		}
		cells = append(cells, []string{p.word(w.Word), visible(w.Name), w.Site, p.paint("refused", text.FgHiRed), "", visible(w.Why()) + hint})
	}
	if len(cells) > 0 {
		fmt.Fprintln(a.Stdout)
		rows(a.Stdout, p, []string{"work", "machine", "site", "result", "took", "why"}, cells)
	}
	if c.Bool("quiet") {
		return
	}
	var words []string
	if n := done[""]; n > 0 {
		words = append(words, fmt.Sprintf("%d %s", n, word))
	}
	for _, w := range proof.Words {
		if done[w] > 0 {
			words = append(words, fmt.Sprintf("%s %d done", w, done[w]))
		}
	}
	for _, n := range []struct {
		count int
		word  string
	}{{failed, "failed"}, {stopped, "stopped"}, {len(m.Refused), "refused"}} {
		if n.count > 0 {
			words = append(words, fmt.Sprintf("%d %s", n.count, n.word))
		}
	}
	fmt.Fprintln(a.Stdout)
	left := ""
	if strays > 0 {
		left = fmt.Sprintf("; %s left alone", plural(strays, "stray"))
	}
	if len(words) == 0 {
		fmt.Fprintln(a.Stdout, p.paint("nothing to do: every machine of the sheet is as it says"+left, text.Bold))
		return
	}
	if m.LogFailure != nil {
		fmt.Fprintf(a.Stderr, "mintbatch: the log of the run is not complete: %s\n", m.LogFailure)
	}
	if m.Run != "" {
		left += " (run " + m.Run + ")"
	}
	fmt.Fprintln(a.Stdout, p.paint(strings.Join(words, ", ")+left, text.Bold))
}

func at(s run.Step) string {
	if s == "" {
		return ""
	}
	return "at " + string(s) + ": "
}
