package sheet

import (
	"fmt"
	"strings"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/pattern"
)

// arrange understands the headings and puts the cells of the rows below under
// them.
func (t *Table) arrange(g grid, rules []Rule, found *finding.Collector) {
	a := t.arranger(g, rules, found)
	for l := range g.lines {
		if l.number <= t.HeadingRow || blank(l.cells) || a.isCommentedOut(l) || a.noMachine(l) {
			continue
		}
		t.Rows = append(t.Rows, a.row(l))
	}
	if len(t.Rows) == 0 && len(t.Columns) > 0 {
		found.Add(finding.Finding{Severity: finding.Warning, Code: "no-machines", At: t.RowPosition(Row{Number: t.HeadingRow}),
			Message: "the sheet has no machines", Hint: "write one machine, or a range of machines, in each row below the headings"}, "")
	}
}

// arranger puts lines under the headings of a table.
type arranger struct {
	*Table
	at        []int // by index of the cell, the column
	found     *finding.Collector
	named     bool
	machine   int // index of the machine's cell; -1 if there is none
	numbering map[int]bool
}

// arranger understands the headings.
func (t *Table) arranger(g grid, rules []Rule, found *finding.Collector) *arranger {
	heading, _ := g.headingLine(rules)
	t.HeadingRow = heading.number
	a := &arranger{Table: t, at: t.headings(heading, g.named, rules, found), found: found, named: g.named}
	a.machine = a.indexOf("machine")
	a.numbering = a.numbered(g)
	return a
}

func (a *arranger) indexOf(column string) int {
	for i, c := range a.at {
		if c >= 0 && a.Columns[c].Name == column {
			return i
		}
	}
	return -1
}

func (a *arranger) row(l line) Row {
	row := Row{Number: l.number, Cells: make([]string, len(a.Columns))}
	for i, cell := range l.cells {
		pos := finding.Position{File: a.File, Worksheet: a.Worksheet, Row: l.number, Column: i + 1}
		switch {
		case i < len(a.at) && a.at[i] >= 0:
			c := a.Columns[a.at[i]]
			if day, ok := l.days[i]; ok && (c.Name == "until" || c.Name == "keep") {
				cell = day
			}
			f, bad := notASheet(strings.TrimSpace(cell))
			if l.bare[i] {
				f, bad = bareFormula(cell), true
			}
			if bad {
				f.At = a.Position(row, a.at[i])
				a.found.Add(f, "")
				continue
			}
			row.Cells[a.at[i]] = c.clean(cell)
		case (i >= len(a.at) || a.at[i] == noHeading) && strings.TrimSpace(cell) != "":
			a.found.Add(finding.Finding{Code: "stray-cell", Value: cell, At: pos,
				Message: "this cell has no column heading",
				Hint:    "remove an extra separator, or quote a value that contains one"}, "")
		}
	}
	return row
}

// cell is what stands under a heading; empty beyond the line's end.
func (l line) cell(i int) string {
	if i < 0 || i >= len(l.cells) {
		return ""
	}
	return strings.TrimSpace(l.cells[i])
}

// first is the first cell that is not blank.
func (l line) first() (i int, cell string) {
	for i := range l.cells {
		if c := l.cell(i); c != "" {
			return i, c
		}
	}
	return -1, ""
}

func hasMark(cell string) bool { return strings.HasPrefix(cell, "#") && !errorValues[cell] }

// aNumber is how a column numbers the rows of a sheet.
var aNumber = pattern.Lazy(`^#\s*[0-9]+[.)]?$`)

// numbered finds the columns that number the rows as #1, #2: all of their cells do.
// In others a # before a number is a row that somebody commented out, or the one row
// that is numbered otherwise.
func (a *arranger) numbered(g grid) map[int]bool {
	all := map[int]bool{}
	for l := range g.lines {
		i, cell := l.first()
		if l.number <= a.HeadingRow || i < 0 || i == a.machine || l.cell(a.machine) == "" {
			continue
		}
		before, known := all[i]
		all[i] = aNumber().MatchString(cell) && (before || !known)
	}
	return all
}

// isCommentedOut reports whether its writer took a row out: by a # before the machine's name,
// or before the whole row. A column that numbers the rows by # takes out none.
func (a *arranger) isCommentedOut(l line) bool {
	i, cell := l.first()
	name := l.cell(a.machine)
	switch {
	case a.named && !hasMark(name):
		return false
	case hasMark(name), hasMark(cell) && name == "" && !a.numbering[i]:
	case !hasMark(cell) || a.numbering[i] && name != "":
		return false
	case aNumber().MatchString(cell) && name != "":
		a.found.Add(finding.Finding{Code: "unclear-row", At: finding.Position{File: a.File, Worksheet: a.Worksheet, Row: l.number, Column: i + 1}, Value: cell,
			Message: fmt.Sprintf("%q may be a row number or comment out %s", cell, name), Hint: "write # before the machine's name to comment the row out, or remove the # here"}, "")
		return true
	}
	a.CommentedOut = append(a.CommentedOut, l.number)
	return true
}

// sums are what stands beside a total.
var sums = map[string]bool{"total": true, "totals": true, "sum": true, "sums": true, "subtotal": true, "grand": true, "count": true, "average": true,
	"summe": true, "gesamt": true, "gesamtsumme": true, "insgesamt": true, "totale": true, "totaal": true, "somme": true, "suma": true}

// noMachine reports whether a row is no machine: headings once more, a title across
// the row, a total.
func (a *arranger) noMachine(l line) bool {
	name := l.cell(a.machine)
	if a.named || name == "" {
		return false
	}
	what := a.looksLike(l, name)
	if what == "" {
		return false
	}
	column := a.Columns[a.at[a.machine]]
	a.found.Add(finding.Finding{Code: "not-a-machine", At: finding.Position{File: a.File, Worksheet: a.Worksheet, Row: l.number, Column: a.machine + 1, Heading: column.Heading},
		Value: name, Message: fmt.Sprintf("this row looks like %s, not a machine", what), Hint: "remove the row, or write # before it"}, "")
	return true
}

// looksLike says what a row is if it is no machine; empty if it may be one.
func (a *arranger) looksLike(l line, name string) string {
	word, rest, several := strings.Cut(strings.ToLower(strings.TrimRight(name, ":")), " ")
	column := a.Columns[a.at[a.machine]]
	said := folded(name)
	switch {
	case said == folded(column.Heading), strings.EqualFold(name, "machine"), meanings[said] == "machine" && a.mostlyHeadings(l):
		return "headings"
	case l.isTitle():
		return "a title"
	case sums[folded(word)] && (!several || rest != ""):
		return "a total"
	}
	return ""
}

// mostlyHeadings reports whether most of several cells are what would stand above their
// columns.
func (a *arranger) mostlyHeadings(l line) bool {
	filled, headings := 0, 0
	for i := range l.cells {
		cell := l.cell(i)
		if cell == "" {
			continue
		}
		filled++
		if i >= len(a.at) || a.at[i] < 0 {
			continue
		}
		if c, ok := ParseColumn(cell); ok && c.ID() == a.Columns[a.at[i]].ID() {
			headings++
		}
	}
	return filled > 1 && 2*headings > filled
}

// isTitle reports whether the row has one text only, in a cell that covers others.
func (l line) isTitle() bool {
	_, first := l.first()
	spread := false
	for i := range l.cells {
		cell := l.cell(i)
		if cell != "" && cell != first {
			return false
		}
		spread = spread || cell != "" && l.covered[i]
	}
	return spread
}
