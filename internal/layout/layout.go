// Package layout fits tables to the width of a terminal.
package layout

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
)

// Kind says what becomes of a cell for which there is no room.
type Kind int

// The kinds of columns. No cell is ever cut at its end, and only those of a Middle column
// lose letters.
const (
	Whole  Kind = iota // it is shown as it is
	Middle             // letters in its middle are left out
	Words              // its words go on in further lines
	Below              // it is a sentence, which stands on a line of its own below its row
)

// Column is a column of a table.
type Column struct {
	Heading string
	Kind    Kind
	// Level says which columns go first where there is no room: those with the highest one.
	// Those of level 0 never go.
	Level int
}

// Table is what is to be printed. Cells may be painted.
type Table struct {
	Columns []Column
	Cells   [][]string
	// Width is that of the terminal; 0 if a line may be of any length.
	Width int
	// Wide keeps the columns for which there is no room, on lines of their own below their rows.
	Wide bool
	// Heading paints a heading; nil leaves it as it is.
	Heading func(string) string
}

const (
	gap       = 2  // between columns
	margin    = 6  // of lines below their row
	leastKept = 12 // letters of a cell that is shortened
	// foldLevel is the highest level of the columns for whose sake words go on in further
	// lines: before that, those above are left out.
	foldLevel = 2
)

// Print writes the table. Columns that are empty throughout are left out.
func (t Table) Print(w io.Writer) error {
	l := t.arrange()
	var b strings.Builder
	if slices.ContainsFunc(t.Columns, func(c Column) bool { return c.Heading != "" }) {
		l.line(&b, l.headings())
	}
	for _, row := range t.Cells {
		l.line(&b, row)
		for _, s := range l.below(row) {
			b.WriteString(s)
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// arrangement is how the columns are shown.
type arrangement struct {
	Table
	shown  []int // columns side by side
	widths []int // of all columns
	under  []int // columns that stand below their row
}

// arrange decides which columns stand side by side.
func (t Table) arrange() arrangement {
	l := arrangement{Table: t, widths: make([]int, len(t.Columns))}
	var all []int
	for i, c := range t.Columns {
		switch l.widths[i] = t.natural(i, false); {
		case !slices.ContainsFunc(t.Cells, func(row []string) bool { return row[i] != "" }):
		case c.Kind == Below && t.Width > 0:
			l.under = append(l.under, i)
		default:
			all = append(all, i)
		}
	}
	if l.shown = all; t.Width == 0 || l.fits(false) {
		return l
	}
	// One column after another goes: of those of the highest level the last first.
	for l.shown = slices.Clone(all); ; {
		top, last := 0, -1
		for k, i := range l.shown {
			if level := t.Columns[i].Level; level > 0 && level >= top {
				top, last = level, k
			}
		}
		if l.fits(false) || top <= foldLevel && l.fits(true) {
			return l.rest(all)
		}
		if last < 0 {
			break
		}
		l.shown = slices.Delete(l.shown, last, last+1)
	}
	for len(l.shown) > 1 {
		if l.shown = l.shown[:len(l.shown)-1]; l.fits(true) {
			break
		}
	}
	l.widths[l.shown[0]] = min(l.widths[l.shown[0]], t.Width)
	return l.rest(all)
}

// rest moves columns below their row that are not shown and must not be lost.
func (l arrangement) rest(all []int) arrangement {
	for _, i := range all {
		if !slices.Contains(l.shown, i) && (l.Wide || l.Columns[i].Level == 0) {
			l.under = append(l.under, i)
		}
	}
	slices.Sort(l.under)
	return l
}

// fits reports whether the columns that are shown have room side by side, and gives them
// their widths.
func (l *arrangement) fits(folded bool) bool {
	total := -gap
	for _, i := range l.shown {
		l.widths[i] = l.natural(i, folded)
		total += l.widths[i] + gap
	}
	for _, i := range l.shown {
		if l.Columns[i].Kind == Middle && !l.Wide && total > l.Width {
			least := max(Width(l.Columns[i].Heading), min(leastKept, l.widths[i]))
			give := min(total-l.Width, l.widths[i]-least)
			l.widths[i], total = l.widths[i]-give, total-give
		}
	}
	for _, i := range l.shown {
		if folded && l.Columns[i].Kind == Words && total < l.Width { // what is left
			more := min(l.Width-total, l.natural(i, false)-l.widths[i])
			l.widths[i], total = l.widths[i]+more, total+more
		}
	}
	return total <= l.Width
}

// natural is the width of a column, or that of its longest word.
func (t Table) natural(i int, folded bool) int {
	widest := Width(t.Columns[i].Heading)
	for _, row := range t.Cells {
		if folded && t.Columns[i].Kind == Words {
			for _, word := range strings.Fields(row[i]) {
				widest = max(widest, Width(word))
			}
			continue
		}
		widest = max(widest, Width(row[i]))
	}
	return widest
}

func (l arrangement) headings() []string {
	all := make([]string, len(l.Columns))
	for i, c := range l.Columns {
		if all[i] = c.Heading; l.Heading != nil {
			all[i] = l.Heading(c.Heading)
		}
	}
	return all
}

// line writes the cells of a row that stand side by side, in as many lines as they need.
func (l arrangement) line(b *strings.Builder, row []string) {
	parts, most := make([][]string, len(l.shown)), 1
	for k, i := range l.shown {
		parts[k] = l.cell(i, row[i])
		most = max(most, len(parts[k]))
	}
	for n := range most {
		var line strings.Builder
		for k, i := range l.shown {
			part := ""
			if n < len(parts[k]) {
				part = parts[k][n]
			}
			line.WriteString(part)
			if k < len(l.shown)-1 {
				line.WriteString(strings.Repeat(" ", l.widths[i]-Width(part)+gap))
			}
		}
		b.WriteString(strings.TrimRight(line.String(), " ") + "\n")
	}
}

// cell is a cell as it fits into its column.
func (l arrangement) cell(i int, s string) []string {
	switch width := l.widths[i]; {
	case Width(s) <= width:
		return []string{s}
	case l.Columns[i].Kind == Words:
		return fold(s, width)
	case l.Columns[i].Kind == Middle && !l.Wide:
		return []string{Shorten(s, width)}
	default:
		return pieces(s, width)
	}
}

// below is the lines below a row.
func (l arrangement) below(row []string) []string {
	var lines, named []string
	for _, i := range l.under {
		switch {
		case row[i] == "":
		case l.Columns[i].Kind == Below:
			lines = append(lines, l.indented(row[i]))
		default:
			named = append(named, l.Columns[i].Heading+" "+row[i])
		}
	}
	if len(named) > 0 {
		lines = slices.Insert(lines, 0, l.indented(strings.Join(named, ", ")))
	}
	return lines
}

func (l arrangement) indented(s string) string {
	var b strings.Builder
	for _, line := range fold(s, max(l.Width-margin, 1)) {
		fmt.Fprintf(&b, "%*s%s\n", margin, "", line)
	}
	return b.String()
}

// fold breaks a text between words; a word is only broken if it is longer than a line.
func fold(s string, width int) []string {
	lines, used := []string{""}, 0
	for _, word := range strings.Fields(s) {
		for k, piece := range pieces(word, width) {
			wide := Width(piece)
			last := &lines[len(lines)-1]
			switch {
			case *last == "":
				*last, used = piece, wide
			case k > 0 || used+1+wide > width:
				lines, used = append(lines, piece), wide
			default:
				*last, used = *last+" "+piece, used+1+wide
			}
		}
	}
	return lines
}

// pieces breaks a word that is longer than a line.
func pieces(word string, width int) []string {
	if Width(word) <= width {
		return []string{word}
	}
	all, used := []string{""}, 0
	for _, r := range text.StripEscape(word) {
		wide := text.RuneWidth(r)
		if used+wide > width && used > 0 {
			all, used = append(all, ""), 0
		}
		all[len(all)-1] += string(r)
		used += wide
	}
	return all
}

// Width is how many columns of the terminal a text takes, colours aside.
func Width(s string) int { return text.StringWidthWithoutEscSequences(s) }

// Fold breaks a text between words into lines of a width; 0 leaves it as it is.
func Fold(s string, width int) []string {
	if width <= 0 {
		return []string{s}
	}
	return fold(s, width)
}

// Shorten leaves out letters in the middle of a text that is wider than so many columns of
// the terminal.
func Shorten(s string, width int) string {
	if Width(s) <= width {
		return s
	}
	const dots = "..."
	keep := max(width-len(dots), 0)
	runes := []rune(text.StripEscape(s))
	from, used := 0, 0
	for from < len(runes) && used+text.RuneWidth(runes[from]) <= (keep+1)/2 {
		used += text.RuneWidth(runes[from])
		from++
	}
	to := len(runes)
	for to > from && used+text.RuneWidth(runes[to-1]) <= keep {
		to--
		used += text.RuneWidth(runes[to])
	}
	return string(runes[:from]) + dots + string(runes[to:])
}
