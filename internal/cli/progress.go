package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
	"mintbatch/internal/layout"
	"mintbatch/internal/run"
)

// progress shows a run while it goes on: on a terminal a block of lines that
// is drawn anew, elsewhere one line for each machine that is done or failed. It is ours
// because go-pretty's progress draws one line for every tracker: of hundreds of machines the
// few that fit on the screen are shown, those at work longest first.
type progress struct {
	mu      sync.Mutex
	out     io.Writer
	paint   painter
	width   int // of the terminal; 0 if there is none
	quiet   bool
	began   time.Time
	total   int
	done    int
	failed  [][]string // the parts of a line each; they stay in view
	active  map[machine.Key]*activity
	waiting map[machine.Key]float64 // parts of those that were begun and wait to go on
	order   []machine.Key           // of the active ones, the oldest first
	drawn   int                     // lines on the screen
	stopped chan struct{}
	ended   sync.WaitGroup
	told    context.Context // ends when the run is told to stop

	forgetStop func() bool
}

const stopping = "Stopping after the steps in progress. Press Ctrl-C again to stop at once."

type activity struct {
	step  step.Name
	since time.Time // when the step began
	share float64
	part  float64 // of all steps, roughly
}

// How many machines in work, and how many failures, are shown at once.
const (
	mostLines    = 12
	mostFailures = 4
)

func (a *App) newProgress(c *cli.Command, todo []proof.Work) *progress {
	width, isTerminal := terminal(a.Stderr)
	p := &progress{out: a.Stderr, paint: a.painter(a.Stderr, c.Bool("no-color")), quiet: c.Bool("quiet"),
		began: time.Now(), total: len(todo), active: map[machine.Key]*activity{}, waiting: map[machine.Key]float64{}, stopped: make(chan struct{}), told: a.stop}
	p.forgetStop = context.AfterFunc(a.stop, func() { p.say(stopping) })
	if isTerminal && !p.quiet && !a.plain && len(todo) > 0 {
		p.width = width
		p.ended.Go(p.redraw)
	}
	return p
}

func (p *progress) redraw() {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-p.stopped:
			return
		case <-tick.C:
			p.mu.Lock()
			p.draw()
			p.mu.Unlock()
		}
	}
}

// end takes the block off the screen; what is left to say, the closing table says.
func (p *progress) end() {
	p.forgetStop()
	close(p.stopped)
	p.ended.Wait()
	if p.drawn > 0 {
		fmt.Fprintf(p.out, "\x1b[%dA\x1b[J", p.drawn)
	}
}

// watch takes an event of the engine.
func (p *progress) watch(e run.Event) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch e.State {
	case run.Finished:
		p.done++
		delete(p.waiting, e.Key)
		p.forget(e.Key)
		p.log(e, fmt.Sprintf("%s done (%d of %d)", e.Name, p.done, p.total))
	case run.Failed:
		failed := "failed: "
		if e.Step != "" {
			failed = "failed " + at(e.Step)
		}
		brief, cause := visible(e.Name+" "+strings.TrimSuffix(failed, ": ")), visible(fmt.Sprint(e.Err))
		p.failed = append(p.failed, []string{"  " + brief, ": " + cause})
		p.forget(e.Key)
		p.log(e, brief+": "+cause)
	case run.InStage:
		if e.Stage.State != "begun" {
			p.log(e, visible(fmt.Sprintf("%s stage %s %s, %.1fs", e.Name, e.Stage.Name, e.Stage.State, e.Stage.Seconds)))
		}
	case run.Held:
		delete(p.waiting, e.Key)
		p.log(e, visible(fmt.Sprintf("%s %s", e.Name, e.Err)))
	case run.Stopped:
		p.forget(e.Key)
	case run.Waiting:
		p.forget(e.Key)
		p.waiting[e.Key] = step.Of(e.Step).Share
	default:
		delete(p.waiting, e.Key)
		one := p.active[e.Key]
		if one == nil {
			one = &activity{}
			p.active[e.Key] = one
			p.order = append(p.order, e.Key)
		}
		if one.step != e.Step {
			one.since = time.Now()
		}
		one.step, one.share, one.part = e.Step, e.Share, step.Of(e.Step).Share
		if e.Step == step.Clone {
			one.part += e.Share * 0.4
		}
	}
}

func (p *progress) forget(key machine.Key) {
	delete(p.active, key)
	for i, k := range p.order {
		if k == key {
			p.order = append(p.order[:i], p.order[i+1:]...)
			return
		}
	}
}

// say prints a line where nothing is drawn.
func (p *progress) say(line string) {
	if p.width == 0 && !p.quiet {
		fmt.Fprintln(p.out, line)
	}
}

// log is say of a machine, with time and site.
func (p *progress) log(e run.Event, line string) {
	p.say(time.Now().Format("15:04:05 ") + e.Site + " " + line)
}

// draw writes the block over the one before.
func (p *progress) draw() {
	most := mostLines
	if w, h, ok := screen(p.out); ok {
		p.width = w
		most = min(most, max(h-mostFailures-5, 1)) // the block must fit, or it could not be drawn over
	}
	lines := []string{p.summary()}
	if p.told.Err() != nil {
		lines = append(lines, layout.Fold(stopping, p.width-1)...)
	}
	for i, key := range p.order {
		if i == most {
			lines = append(lines, fmt.Sprintf("  and %d more in progress", len(p.order)-most))
			break
		}
		lines = append(lines, p.machineLine(key))
	}
	for _, f := range p.failed[max(0, len(p.failed)-mostFailures):] {
		lines = append(lines, p.paint.paint(fitted(f, p.width), text.FgHiRed))
	}
	var b strings.Builder
	if p.drawn > 0 {
		fmt.Fprintf(&b, "\x1b[%dA", p.drawn)
	}
	for _, l := range lines {
		b.WriteString("\r" + l + "\x1b[K\n")
	}
	b.WriteString("\x1b[J")
	p.drawn = len(lines)
	_, _ = io.WriteString(p.out, b.String())
}

func (p *progress) summary() string {
	waiting := p.total - p.done - len(p.failed) - len(p.active)
	failed := ""
	if n := len(p.failed); n > 0 {
		failed = fmt.Sprintf(", %d failed", n)
	}
	parts := []string{fmt.Sprintf("%d of %d done%s", p.done, p.total, failed), fmt.Sprintf(", %d in progress, %d waiting", len(p.active), waiting), "   " + clock(time.Since(p.began))}
	if left, ok := p.left(); ok {
		parts = append(parts, ", about "+clock(left)+" left")
	}
	return p.paint.paint(fitted(parts, p.width), text.Bold)
}

// left guesses the time left from the part of all work that is behind, and from
// the copies under way, whichever is longer; before a tenth of the work is
// behind, nothing honest can be said.
func (p *progress) left() (time.Duration, bool) {
	part := float64(p.done + len(p.failed))
	for _, a := range p.active {
		part += a.part
	}
	for _, a := range p.waiting {
		part += a
	}
	part /= float64(p.total)
	if part < 0.1 {
		return 0, false
	}
	left := time.Duration(float64(time.Since(p.began)) * (1 - part) / part)
	for _, a := range p.active {
		if a.step == step.Clone && a.share > 0.02 {
			left = max(left, time.Duration(float64(time.Since(a.since))*(1-a.share)/a.share))
		}
	}
	return left, true
}

// barWidth is the width of a copy's bar.
const barWidth = 20

// machineLine is what a machine is at, as far as there is room: its name comes first.
func (p *progress) machineLine(key machine.Key) string {
	a := p.active[key]
	parts := []string{fmt.Sprintf("  %-24s", key.Name), fmt.Sprintf(" %-10s %5s", a.step, clock(time.Since(a.since))), fmt.Sprintf("  %-8s", key.Site)}
	if a.step == step.Clone {
		full := int(a.share * barWidth)
		parts = append(parts, "  "+strings.Repeat("=", full)+strings.Repeat(".", barWidth-full)+fmt.Sprintf(" %3.0f%%", a.share*100))
	}
	return fitted(parts, p.width)
}

// fitted joins the first of some parts that have room on a line of the terminal.
func fitted(parts []string, width int) string {
	line := parts[0]
	for _, part := range parts[1:] {
		if layout.Width(line+part) >= width {
			break
		}
		line += part
	}
	return layout.Shorten(line, width-1)
}

func clock(d time.Duration) string {
	s := int(d.Round(time.Second).Seconds())
	return fmt.Sprintf("%d:%02d", s/60, s%60)
}
