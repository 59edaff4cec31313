package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/run"
)

// hold waits for the ledger while another run has it.
func (a *App) hold(ctx context.Context, l *ledger.Ledger) error {
	for told := false; ; {
		err := l.Hold(ctx)
		var busy *ledger.Busy
		if !errors.As(err, &busy) {
			return err
		}
		if !told {
			fmt.Fprintf(a.Stderr, "waiting: %s\n", busy)
			told = true
		}
		select {
		case <-a.stop.Done():
			return fmt.Errorf("%w: %s", run.ErrStopped, busy)
		case <-time.After(200 * time.Millisecond):
		}
	}
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

// closing tells what was made, and what was not and why.
func (a *App) closing(c *cli.Command, m *mint.Minted, strays int) {
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
		if w.Word == proof.Remake {
			hint = "; give --allow-remake to clone it again, which loses what its disk holds"
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
		words = append(words, fmt.Sprintf("%d retired", n))
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
