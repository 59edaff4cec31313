package cli

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
	"mintbatch/internal/mint"
	"mintbatch/internal/output"
	"mintbatch/internal/plan"
	"mintbatch/internal/run"
)

func eventsFlag() cli.Flag {
	return &cli.StringFlag{Name: "events", Usage: "also write the log of the run, JSON Lines, to `FILE` as it goes on; - is standard output, which then has nothing else"}
}

func keepHostKeyFlag() cli.Flag {
	return &cli.BoolFlag{Name: "keep-host-key", Usage: "keep the SSH host key of a machine that is cloned again, so that known_hosts files stay valid"}
}

func keepDisksFlag() cli.Flag {
	return &cli.BoolFlag{Name: "keep-disks", Usage: "keep the disks of retired machines"}
}

// disksAfter reports what becomes of the disks of machines that are retired.
func disksAfter(c *cli.Command) contract.Disks {
	if c.Bool("keep-disks") {
		return contract.KeepDisks
	}
	return contract.DeleteDisks
}

func acceptMissingFlag() cli.Flag {
	return &cli.BoolFlag{Name: "accept-missing", Usage: "treat machines that their site does not list as deleted, however many they are"}
}

// missing is what the command line says of machines that their site does not list.
func missing(c *cli.Command) plan.Missing { return plan.Missing(c.Bool("accept-missing")) }

func forceOffFlag() cli.Flag {
	return &cli.BoolFlag{Name: "force-off", Usage: "power off a guest that does not shut down when asked"}
}

// forceFlag lets outputs be written over files that are there.
func forceFlag(usage string) cli.Flag { return &cli.BoolFlag{Name: "force", Usage: usage} }

const overFiles = "replace existing output files"

// over reports whether an output may replace a file.
func over(c *cli.Command) output.Over { return output.Over(c.Bool("force")) }

// streams reports whether the log of the run goes to standard output.
func (a *App) streams(c *cli.Command) bool { return c.String("events") == "-" }

// closed is a machine as the closing of a run reports it.
type closed struct {
	word, name, site, result, why string
	took                          time.Duration
}

// follows reports whether a machine is the next of those that are reported in one line.
func (l *closed) follows(before *closed) bool {
	return machine.NameFollows(before.name, l.name) && before.word == l.word && before.site == l.site && before.result == l.result && before.why == l.why
}

// closing reports what was done, in a word if it was no work of a proof, and what
// was not and why.
func (a *App) closing(c *cli.Command, m *mint.Outcome, word string, of proof.Proof) {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	var lines []closed
	done := map[proof.Word]int{}
	var failed, stopped, heldBack int
	for _, r := range m.Results {
		var held *run.HeldBack
		line := closed{word: string(r.Word), name: r.Name, site: r.Site, result: p.paint("done", text.FgHiCyan), took: r.Took}
		switch {
		case r.Err == nil:
			done[r.Word]++
			if c.Bool("quiet") || len(m.Results) > longList && !c.Bool("each") {
				continue
			}
		case errors.Is(r.Err, run.ErrStopped):
			stopped++
			line.result, line.why = "stopped", strings.TrimSuffix(at(r.Step), ": ")
		case errors.As(r.Err, &held):
			heldBack++
			line.result, line.why = p.paint("held back", text.FgYellow), visible("by "+held.By)
		default:
			failed++
			line.result, line.why = p.paint("failed", text.FgHiRed), at(r.Step)+visible(r.Err.Error())
		}
		lines = append(lines, line)
	}
	for _, w := range m.Refused {
		hint := ""
		switch {
		case w.Refusal != "":
		case w.Word == proof.Remake:
			hint = "; give --allow-remake to clone it again and lose the contents of its disk"
		case w.Word == proof.Adjust:
			hint = "; shut it down first, or write power: on"
		}
		lines = append(lines, closed{word: p.word(w.Word), name: w.Name, site: w.Site, result: p.paint("refused", text.FgHiRed), why: visible(w.Why()) + hint})
	}
	if len(lines) > 0 {
		fmt.Fprintln(a.Stdout)
		series := machine.Series(lines, func(a, b *closed) bool { return !c.Bool("each") && b.follows(a) })
		cells := make([][]string, len(series))
		for i, s := range series {
			longest := slices.MaxFunc(s, func(a, b closed) int { return cmp.Compare(a.took, b.took) })
			took := ""
			if longest.took > 0 {
				took = fmt.Sprintf("%.1fs", longest.took.Seconds())
			}
			cells[i] = []string{s[0].word, visible(machine.NameRange(s[0].name, s[len(s)-1].name)), several(len(s)), s[0].site, s[0].result, took, s[0].why}
		}
		rows(a.Stdout, p, []string{"work", "machine", "count", "site", "result", "took", "why"}, cells)
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
	}{{failed, "failed"}, {heldBack, "held back"}, {stopped, "stopped"}, {len(m.Refused), "refused"}} {
		if n.count > 0 {
			words = append(words, fmt.Sprintf("%d %s", n.count, n.word))
		}
	}
	fmt.Fprintln(a.Stdout)
	if len(words) == 0 {
		paragraph(a.Stdout, "", p.paint(nothingDone(of), text.Bold))
		return
	}
	left := remarks(of, "; ")
	if m.Run != "" {
		left += " (run " + m.Run + ")"
	}
	paragraph(a.Stdout, "", p.paint(strings.Join(words, ", ")+left, text.Bold))
	if failed > 0 {
		a.causes(c, m.Results)
	}
}

// mostCauses is how many are repeated: those of the most machines.
const mostCauses = 20

// causes repeats what failed, by its cause, and names the command that goes on.
func (a *App) causes(c *cli.Command, results []run.Result) {
	var order []string
	names := map[string][]string{}
	for _, r := range results {
		var held *run.HeldBack
		if r.Err == nil || errors.Is(r.Err, run.ErrStopped) || errors.As(r.Err, &held) {
			continue
		}
		cause := at(r.Step) + unnamed(r.Err.Error(), r.Name)
		if names[cause] == nil {
			order = append(order, cause)
		}
		names[cause] = append(names[cause], r.Name)
	}
	fmt.Fprintln(a.Stdout)
	if len(order) > mostCauses {
		slices.SortStableFunc(order, func(a, b string) int { return len(names[b]) - len(names[a]) })
	}
	more := order[min(len(order), mostCauses):]
	for _, cause := range order[:len(order)-len(more)] {
		paragraph(a.Stdout, "", visible(fmt.Sprintf("%s failed %s", finding.Plural(len(names[cause]), "machine"), cause)))
		paragraph(a.Stdout, "      ", visible(strings.Join(machine.NameRanges(names[cause]), " ")))
	}
	if len(more) > 0 {
		others := 0
		for _, cause := range more {
			others += len(names[cause])
		}
		fmt.Fprintf(a.Stdout, "%s failed for %d other causes: `mintbatch runs show` lists them\n", finding.Plural(others, "machine"), len(more))
	}
	if c.Name == "mint" {
		fmt.Fprintln(a.Stdout, "`mintbatch mint --failed` goes on with these only")
	}
}

// remarks reports machines that a mint leaves alone although they are not as their
// rows say, each after a separator.
func remarks(p proof.Proof, separator string) string {
	var all []string
	leftOff := 0
	for _, w := range p.Works {
		if w.LeftOff != "" {
			leftOff++
		}
	}
	for _, r := range []struct {
		count      int
		word, tail string
	}{
		{p.Count(proof.Dated), "dated machine", " left unchanged"},
		{p.Drifted(), "machine", " changed at the site, left unchanged (--fix-drift reverts it)"},
		{leftOff, "machine", " left off on purpose"},
		{p.Count(proof.Stray), "stray", " left alone"},
	} {
		if r.count > 0 {
			all = append(all, separator+finding.Plural(r.count, r.word)+r.tail)
		}
	}
	return strings.Join(all, "")
}

// nothingDone says that there was nothing to do, and that all is as asked only
// where it is.
func nothingDone(p proof.Proof) string {
	left := remarks(p, "; ")
	if p.Count(proof.Same) == len(p.Works)-p.Count(proof.Stray) && p.Drifted() == 0 && !strings.Contains(left, "left off") {
		return "Nothing to do: every machine is as the sheet says" + left
	}
	return fmt.Sprintf("No changes were made%s", left)
}

func at(s step.Name) string {
	if s == "" {
		return ""
	}
	return "at " + string(s) + ": "
}

// unnamed is a text without the name of a machine where that stands by itself, so that what several machines have in common is the
// same.
func unnamed(text, name string) string {
	var b strings.Builder
	for {
		i := strings.Index(text, name)
		if i < 0 {
			return b.String() + text
		}
		behind := text[i+len(name):]
		b.WriteString(text[:i])
		if behind != "" && strings.ContainsRune(".-_", rune(behind[0])) {
			b.WriteString(name)
		} else {
			b.WriteString("the machine")
		}
		text = behind
	}
}
