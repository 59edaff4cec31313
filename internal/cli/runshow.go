package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/event"
	"mintbatch/internal/core/step"
	"mintbatch/internal/layout"
	"mintbatch/internal/mint"
	"mintbatch/internal/report"
	"mintbatch/internal/runlog"
)

func (a *App) runShowCommand() *cli.Command {
	return &cli.Command{
		Name:      "show",
		Usage:     "show what each machine did in a run and how long each step took",
		ArgsUsage: "[RUN]",
		Description: "Shows a run from its log, by default the last one: a table of steps, and a chart of the machines\n" +
			"over time.\n\n" +
			"   mintbatch runs show\n   mintbatch runs show 261123-140209-1f3a --svg run.svg",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "svg", Usage: "also write the chart to `FILE`"},
			&cli.StringFlag{Name: "png", Usage: "also write the chart to `FILE`"},
			forceFlag(overFiles),
		},
		Action: a.withSetup(atMostOne("name one run, as `mintbatch runs` lists them"), a.runShow, "ledger", "events"),
	}
}

func (a *App) runShow(ctx context.Context, c *cli.Command, s *mint.Desk) error {
	l, err := runlog.Read(ctx, s.Batch, s.Ledger, c.Args().First())
	if errors.Is(err, runlog.ErrNoRun) || errors.Is(err, event.ErrLog) {
		return misuse{err}
	} else if err != nil {
		return err
	}
	for _, format := range []string{"svg", "png"} {
		path := c.String(format)
		if path == "" {
			continue
		}
		var drawn bytes.Buffer
		if err := report.Timeline(&drawn, l, format); err != nil {
			return err
		}
		if err := s.Guard().Write(path, drawn.Bytes(), over(c), 0o644); err != nil {
			return err
		}
		fmt.Fprintf(a.Stderr, "wrote the chart to %s\n", path)
	}
	if c.Bool("json") {
		return a.document(runShowJSON{"mintbatch/run/1", runJSON{ID: l.Run, Command: l.Command, User: l.User, Host: l.Head.Host, Started: l.Started, Ended: l.Ended, Outcome: l.Outcome}, l.Courses})
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	a.runTable(p, l)
	a.runStages(l)
	a.runChart(p, l)
	outcome := l.Outcome
	if outcome == "" {
		outcome = "no end: in progress, or killed"
	}
	fmt.Fprintf(a.Stdout, "\n%s\n", p.paint(fmt.Sprintf("run %s (%s by %s on %s), %s, %s: %s", l.Run, l.Command, l.User, l.Head.Host, when(l.Started),
		l.Ended.Sub(l.Started).Round(100*time.Millisecond), visible(outcome)), text.Bold))
	return nil
}

func (a *App) runTable(p painter, l *event.Log) {
	var listed []string
	for _, s := range step.All() {
		if s.Listed {
			listed = append(listed, string(s.Name))
		}
	}
	var cells [][]string
	for _, c := range l.Courses {
		result := c.Result
		switch result {
		case "finished":
			result = p.paint("done", text.FgHiCyan)
		case "failed":
			result = p.paint(result, text.FgHiRed)
		}
		line := []string{visible(c.Name), c.Site, result}
		for _, s := range listed {
			line = append(line, seconds(c.Took(s)))
		}
		cells = append(cells, append(line, seconds(c.Waited), visible(c.Error)))
	}
	if len(cells) > 0 {
		rows(a.Stdout, p, append(append([]string{"machine", "site", "result"}, listed...), "waited", "why"), cells)
	}
}

func seconds(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return fmt.Sprintf("%.1fs", d.Seconds())
}

// letterColors are those of the phases in a chart of letters.
var letterColors = map[string]text.Color{step.Cloning.Letter: text.FgHiBlue, step.Configuring.Letter: text.FgHiYellow, step.Starting.Letter: text.FgHiGreen,
	step.Confirming.Letter: text.FgGreen, step.Removing.Letter: text.FgHiRed}

// runChart draws the machines over time in letters.
func (a *App) runChart(p painter, l *event.Log) {
	whole := l.Ended.Sub(l.Started)
	if len(l.Courses) == 0 || whole <= 0 || a.plain {
		return
	}
	width, is := terminal(a.Stdout)
	if !is {
		width = 100
	}
	longest := 0
	for _, c := range l.Courses {
		longest = max(longest, layout.Width(visible(c.Name)))
	}
	apart := width-longest-3 < 20 // then each name stands above its bar
	if apart {
		longest = 0
	}
	width = max(width-longest-3, 20)
	at := func(t time.Time) int {
		return min(int(float64(width)*float64(t.Sub(l.Started))/float64(whole)), width-1)
	}
	fmt.Fprintf(a.Stdout, "\n%s\n", p.paint(fmt.Sprintf("%*s  0s%*s", longest, "", width-2, whole.Round(100*time.Millisecond)), text.Faint))
	for _, c := range l.Courses {
		marks := []rune(strings.Repeat(" ", width))
		if len(c.Spans) > 0 {
			for i := at(c.Spans[0].From); i < at(c.Spans[len(c.Spans)-1].To); i++ {
				marks[i] = '.'
			}
		}
		for _, s := range c.Spans {
			letter := step.Of(step.Name(s.Step)).Phase.Letter
			for i := at(s.From); i <= at(s.To); i++ {
				if i > at(s.From) && i == at(s.To) && s.To.Before(l.Ended) {
					break
				}
				marks[i] = rune(letter[0])
			}
		}
		name := visible(c.Name)
		if apart {
			fmt.Fprintln(a.Stdout, name)
			name = ""
		}
		fmt.Fprintf(a.Stdout, "%-*s  %s\n", longest, name, colored(p, marks))
	}
	var legend []string
	for _, phase := range step.Phases() {
		legend = append(legend, phase.Letter+" "+phase.Name)
	}
	paragraph(a.Stdout, "", p.paint(strings.Join(legend, "; ")+"; a dot: waiting for a slot or another machine", text.Faint))
}

// colored paints runs of the same letter.
func colored(p painter, marks []rune) string {
	var b strings.Builder
	text := strings.TrimRight(string(marks), " ")
	for i := 0; i < len(text); {
		j := i
		for j < len(text) && text[j] == text[i] {
			j++
		}
		if color, ok := letterColors[text[i:i+1]]; ok {
			b.WriteString(p.paint(text[i:j], color))
		} else {
			b.WriteString(text[i:j])
		}
		i = j
	}
	return b.String()
}

// runStages lists the stages of guests, and what the failed ones have said last.
func (a *App) runStages(l *event.Log) {
	var cells [][]string
	for _, c := range l.Courses {
		for _, s := range c.Stages {
			took, code := "", ""
			if s.State != "begun" {
				took, code = fmt.Sprintf("%.1fs", s.Seconds), strconv.Itoa(s.Code)
			}
			said := ""
			if s.State == "failed" {
				said = strings.Join(s.Output, " / ")
			}
			cells = append(cells, []string{visible(c.Name), c.Site, visible(s.Name), s.State, took, code, visible(said)})
		}
	}
	if len(cells) > 0 {
		fmt.Fprintln(a.Stdout)
		rows(a.Stdout, a.painter(a.Stdout, true), []string{"machine", "site", "stage", "state", "took", "exit code", "why"}, cells)
	}
}
