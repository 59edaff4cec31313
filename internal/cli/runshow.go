package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/event"
	"mintbatch/internal/mint"
	"mintbatch/internal/report"
)

func (a *App) runShowCommand() *cli.Command {
	return &cli.Command{
		Name:      "show",
		Usage:     "what each machine did in a run, and how long each step took",
		ArgsUsage: "[RUN]",
		Description: "Tells a run from its log, the last one if none is named: a table of steps, and a chart of machines\n" +
			"over time, in which one sees what the batch waited for.\n\n" +
			"   mintbatch runs show\n   mintbatch runs show 261123-140209-1f3a --svg run.svg",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "svg", Usage: "also draw the chart into `FILE`"},
			&cli.StringFlag{Name: "png", Usage: "also draw the chart into `FILE`"},
		},
		Action: a.withSetup(atMostOne("runs show takes one run, as `mintbatch runs` lists them"), a.runShow),
	}
}

func (a *App) runShow(ctx context.Context, c *cli.Command, s *mint.Session) error {
	l, err := s.Run(ctx, c.Args().First())
	if errors.Is(err, mint.ErrNoRun) || errors.Is(err, event.ErrLog) {
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
		if err := os.WriteFile(path, drawn.Bytes(), 0o644); err != nil {
			return err
		}
		fmt.Fprintf(a.Stderr, "chart drawn into %s\n", path)
	}
	if c.Bool("json") {
		return a.document(struct {
			Schema  string         `json:"schema"`
			Run     event.Head     `json:"run"`
			Ended   time.Time      `json:"ended"`
			Outcome string         `json:"outcome,omitempty"`
			Courses []event.Course `json:"machines"`
		}{"mintbatch/run/1", l.Head, l.Ended, l.Outcome, l.Courses})
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	a.runTable(p, l)
	a.runChart(p, l)
	outcome := l.Outcome
	if outcome == "" {
		outcome = "no end: under way, or killed"
	}
	fmt.Fprintf(a.Stdout, "\n%s\n", p.paint(fmt.Sprintf("run %s (%s by %s on %s), %s, %s: %s", l.Run, l.Command, l.User, l.Head.Host, when(l.Started),
		l.Ended.Sub(l.Started).Round(100*time.Millisecond), visible(outcome)), text.Bold))
	return nil
}

// tableSteps are the steps that a run's table has columns for.
var tableSteps = []string{"clone", "shape", "wire", "seed", "checkpoint", "record", "start", "confirm", "remove", "stop"}

func (a *App) runTable(p painter, l *event.Log) {
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
		for _, step := range tableSteps {
			line = append(line, seconds(c.Took(step)))
		}
		cells = append(cells, append(line, seconds(c.Waited), visible(c.Error)))
	}
	if len(cells) > 0 {
		rows(a.Stdout, p, append(append([]string{"machine", "site", "result"}, tableSteps...), "waited", "why"), cells)
	}
}

func seconds(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return fmt.Sprintf("%.1fs", d.Seconds())
}

// letters stand for the steps in the chart; a dot is a wait.
var letters = map[string]string{"clone": "c", "start": "s", "confirm": "f", "remove": "r"}

var letterColors = map[string]text.Color{"c": text.FgHiBlue, "w": text.FgHiYellow, "s": text.FgHiGreen, "f": text.FgGreen, "r": text.FgHiRed}

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
		longest = max(longest, text.StringWidthWithoutEscSequences(visible(c.Name)))
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
			letter := letters[s.Step]
			if letter == "" {
				letter = "w"
			}
			for i := at(s.From); i <= at(s.To); i++ {
				if i > at(s.From) && i == at(s.To) && s.To.Before(l.Ended) {
					break
				}
				marks[i] = rune(letter[0])
			}
		}
		fmt.Fprintf(a.Stdout, "%-*s  %s\n", longest, visible(c.Name), colored(p, marks))
	}
	fmt.Fprintln(a.Stdout, p.paint("c clone, w shape to record, s start, f confirm, r remove; a dot: it waited to go on", text.Faint))
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
