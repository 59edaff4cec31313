package cli

import (
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"unicode"

	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/layout"
)

// terminal reports whether a stream is a terminal, and how wide it is.
func terminal(stream any) (width int, ok bool) {
	width, _, ok = screen(stream)
	return width, ok
}

// screen reports the width and height of a stream that is a terminal.
func screen(stream any) (width, height int, ok bool) {
	if p, is := stream.(*page); is {
		return p.width, p.height, true
	}
	f, isFile := asFile(stream)
	if !isFile || !term.IsTerminal(int(f.Fd())) {
		return 0, 0, false
	}
	width, height, err := term.GetSize(int(f.Fd()))
	if err != nil || width < 20 {
		return 80, 24, true
	}
	return width, height, true
}

// painter colours text for a stream that can show it, and lays it out plainly
// for those who have it read to them.
type painter struct{ color, plain, wide bool }

func (a *App) painter(stream io.Writer, no bool) painter {
	_, isTerminal := terminal(stream)
	return painter{isTerminal && !no && !a.plain && os.Getenv("NO_COLOR") == "", a.plain, a.wide}
}

func (p painter) paint(s string, colors ...text.Color) string {
	if !p.color {
		return s
	}
	return text.Colors(colors).EscapeSeq() + s + text.Reset.EscapeSeq()
}

var wordColors = map[proof.Word]text.Colors{
	proof.New:    {text.FgHiCyan},
	proof.Adjust: {text.FgHiMagenta},
	proof.Remake: {text.FgHiMagenta, text.Bold},
	proof.Dated:  {text.FgHiYellow},
	proof.Same:   {text.Faint},
	proof.Stray:  {text.FgHiBlue},
	proof.Taken:  {text.FgHiRed},
}

func (p painter) word(w proof.Word) string { return p.paint(string(w), wordColors[w]...) }

// visible replaces what would move a cursor or break a line: sheets and sites
// are not trusted to be harmless to a terminal.
func visible(s string) string {
	if strings.IndexFunc(s, func(r rune) bool { return !unicode.IsPrint(r) }) < 0 {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case unicode.IsPrint(r):
			b.WriteRune(r)
		case r == '\n' || r == '\t' || r == '\r':
			b.WriteByte(' ')
		default:
			b.WriteString(escaped(r))
		}
	}
	return b.String()
}

// oneLine lets a cell, painted or not, break no line.
func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\r' || r == '\t' {
			return ' '
		}
		return r
	}, s)
}

// rows prints a table: aligned columns, no lines, and no column that is empty
// throughout. On a terminal it is fitted to the width. Cells that were painted must have
// been made visible before.
func rows(w io.Writer, p painter, headings []string, cells [][]string) {
	headings, cells = filled(headings, cells)
	for _, line := range cells { // which filled has made
		for i := range line {
			line[i] = oneLine(line[i])
		}
	}
	if p.plain {
		sentences(w, headings, cells)
		return
	}
	width, _ := terminal(w)
	_ = layout.Table{Columns: columnsOf(headings), Cells: cells, Width: width, Wide: p.wide, Heading: func(h string) string { return p.paint(h, text.Bold) }}.Print(w)
}

// inRanges puts lines together that differ only in their first cell, a machine's name that
// counts up, and says how many they are in a cell after it.
func inRanges(cells [][]string, each bool) [][]string {
	follows := func(a, b *[]string) bool {
		return !each && machine.NameFollows((*a)[0], (*b)[0]) && slices.Equal((*a)[1:], (*b)[1:])
	}
	var all [][]string
	for _, s := range machine.Series(cells, follows) {
		names := machine.NameRange(s[0][0], s[len(s)-1][0])
		all = append(all, append([]string{names, several(len(s))}, s[0][1:]...))
	}
	return all
}

// sentences prints a line for each row that reads well aloud: each value after
// the name of its column.
func sentences(w io.Writer, headings []string, cells [][]string) {
	for _, line := range cells {
		var words []string
		for i, c := range line {
			if c != "" {
				words = append(words, strings.TrimSpace(headings[i]+" "+c))
			}
		}
		fmt.Fprintln(w, strings.Join(words, ", "))
	}
}

// filled leaves out the columns that have nothing in any row.
func filled(headings []string, cells [][]string) ([]string, [][]string) {
	pick := func(line []string, keep []int) []string {
		picked := make([]string, len(keep))
		for i, column := range keep {
			picked[i] = line[column]
		}
		return picked
	}
	var keep []int
	for i := range headings {
		if slices.ContainsFunc(cells, func(line []string) bool { return line[i] != "" }) {
			keep = append(keep, i)
		}
	}
	out := make([][]string, len(cells))
	for i, line := range cells {
		out[i] = pick(line, keep)
	}
	return pick(headings, keep), out
}

// findings prints findings, grouped by severity.
func (a *App) findings(w io.Writer, all finding.List) {
	p := a.painter(w, false)
	colors := map[finding.Severity]text.Color{finding.Error: text.FgHiRed, finding.Warning: text.FgHiYellow, finding.Note: text.FgHiBlue}
	for _, s := range []finding.Severity{finding.Error, finding.Warning, finding.Note} {
		n := all.Count(s)
		if n == 0 {
			continue
		}
		fmt.Fprintln(w, p.paint(finding.Plural(n, s.String()), text.Bold, colors[s]))
		for _, f := range all {
			if f.Severity != s {
				continue
			}
			fmt.Fprintf(w, "  %s\n", p.paint(visible(f.At.String()), text.Bold))
			indented(w, visible(f.Message)+" "+p.paint("["+f.Code+"]", text.Faint))
			indented(w, visible(f.Hint))
		}
	}
}

// indented prints a paragraph below a position.
func indented(w io.Writer, s string) { paragraph(w, "      ", s) }

// paragraph prints a sentence, if there is one, folded to a terminal's width.
func paragraph(w io.Writer, margin, s string) {
	if s == "" {
		return
	}
	if width, ok := terminal(w); ok {
		s = strings.Join(layout.Fold(s, max(width-len(margin), 1)), "\n"+margin)
	}
	fmt.Fprintln(w, margin+s)
}

func sortedKeys(m map[string]string) []string { return slices.Sorted(maps.Keys(m)) }
