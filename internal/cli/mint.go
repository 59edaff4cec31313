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

func (a *App) mintCommand() *cli.Command {
	return &cli.Command{
		Name:      "mint",
		Usage:     "show the proof, ask, do it",
		ArgsUsage: "[MACHINE...]",
		Description: "Clones, shapes, seeds, starts and confirms every machine that is not as the sheet says.\n" +
			"Interrupted in whatever way, the same command goes on where it was. Names may be globs.\n\n" +
			"   mintbatch mint\n   mintbatch mint --yes\n   mintbatch mint 'bms-tide-*' --stop-after 2",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
			&cli.IntFlag{Name: "stop-after", Usage: "begin no more machines after `N` failed ones"},
			&cli.StringFlag{Name: "workbook", Usage: "afterwards write a copy of the sheet with what was made into `FILE`"},
			&cli.BoolFlag{Name: "force", Usage: "let --workbook write over a file"},
			&cli.BoolFlag{Name: "allow-remake", Usage: "also clone again what can only be had so; what its disk holds is lost"},
		},
		Action: a.mint,
	}
}

func (a *App) mint(ctx context.Context, c *cli.Command) error {
	if c.Int("stop-after") < 0 {
		return misuse{errors.New("--stop-after counts failed machines: 1 or more")}
	}
	s, err := a.open(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if path := c.String("workbook"); path != "" {
		if err := s.CheckWorkbook(path, c.Bool("force")); err != nil {
			return err
		}
	}
	if err := a.hold(ctx, s.Ledger); err != nil {
		return err
	}
	p, err := s.Proof(ctx, c.Args().Slice(), false)
	if err != nil {
		return err
	}
	order := mint.Order{AllowRemake: c.Bool("allow-remake"), StopAfter: int(c.Int("stop-after")), Boundary: a.Boundary}
	todo, _ := mint.Todo(p, order.AllowRemake)
	quiet := c.Bool("quiet") || c.Bool("json")
	a.findings(a.Stderr, s.Warnings)
	if !quiet {
		a.showProof(a.Stdout, a.painter(a.Stdout, c.Bool("no-color")), p, true)
	}
	if len(todo) > 0 && !c.Bool("yes") {
		if err := a.ask(len(todo)); err != nil {
			return err
		}
	}
	progress := a.newProgress(c, todo)
	order.Watch = progress.watch
	minted, err := s.Mint(ctx, a.stop, p, order)
	progress.end()
	if minted == nil {
		return err
	}
	if path := c.String("workbook"); path != "" {
		err = errors.Join(err, s.WriteWorkbook(context.WithoutCancel(ctx), path, p))
	}
	if c.Bool("json") {
		return errors.Join(a.document(mintDocument(minted, p)), err)
	}
	a.closing(c, minted, p.Count(proof.Stray))
	return err
}

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

// ask puts the question before anything is done. Where nobody can answer,
// nothing is done.
func (a *App) ask(machines int) error {
	if _, ok := terminal(a.Stdin); !ok {
		return misuse{errors.New("there is no terminal to ask at; give --yes to go ahead without a question")}
	}
	fmt.Fprintf(a.Stderr, "\nMint %s? Type yes to go ahead: ", plural(machines, "machine"))
	answer := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(a.Stdin).ReadString('\n')
		answer <- strings.ToLower(strings.TrimSpace(line))
	}()
	select {
	case <-a.stop.Done():
		fmt.Fprintln(a.Stderr)
		return run.ErrStopped
	case word := <-answer:
		if word != "yes" && word != "y" {
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
			line[3], line[5] = "stopped", at(r.Step)
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
		cells = append(cells, []string{p.word(w.Word), visible(w.Name), w.Site, p.paint("refused", text.FgHiRed), "", why(w) + hint})
	}
	if len(cells) > 0 {
		fmt.Fprintln(a.Stdout)
		rows(a.Stdout, p, []string{"work", "machine", "site", "result", "took", "why"}, cells)
	}
	if c.Bool("quiet") {
		return
	}
	var words []string
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

type resultJSON struct {
	Site    string     `json:"site"`
	Name    string     `json:"name"`
	Work    proof.Word `json:"work"`
	Result  string     `json:"result"` // done, failed, stopped, refused
	Step    run.Step   `json:"step,omitempty"`
	Error   string     `json:"error,omitempty"`
	Seconds float64    `json:"seconds"`
}

type mintJSON struct {
	Schema  string             `json:"schema"`
	Run     string             `json:"run,omitempty"`
	Totals  map[proof.Word]int `json:"totals"`
	Results []resultJSON       `json:"results"`
}

func mintDocument(m *mint.Minted, p proof.Proof) mintJSON {
	d := mintJSON{Schema: "mintbatch/mint/1", Run: m.Run, Totals: proofDocument(p).Totals, Results: []resultJSON{}}
	for _, r := range m.Results {
		one := resultJSON{Site: r.Site, Name: r.Name, Work: r.Word, Result: "done", Seconds: r.Took.Round(time.Millisecond).Seconds()}
		if r.Err != nil {
			one.Result, one.Step, one.Error = "failed", r.Step, r.Err.Error()
			if errors.Is(r.Err, run.ErrStopped) {
				one.Result = "stopped"
			}
		}
		d.Results = append(d.Results, one)
	}
	for _, w := range m.Refused {
		d.Results = append(d.Results, resultJSON{Site: w.Site, Name: w.Name, Work: w.Word, Result: "refused", Error: why(w)})
	}
	return d
}
