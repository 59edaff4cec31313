package sheet

import (
	"cmp"
	"fmt"
	"strings"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/finding"
)

// Table is a sheet whose headings are understood.
type Table struct {
	File      string
	Worksheet string
	Kind      Kind
	Comma     rune // what separates the cells of a CSV
	// HeadingRow is where the headings stand.
	HeadingRow int
	// AddedAt is the number of the first column that a copy has added, counted from 1; 0 if the sheet is none.
	AddedAt int
	Columns []Column
	Rows    []Row
	// CommentedOut are the numbers of rows that their writer commented out, and that are
	// passed over.
	CommentedOut []int
	// Fixed are the values that the setup puts into every row, by column id.
	Fixed map[string]Fixed
}

// Fixed is a value that stands in every row, and the place that says so.
type Fixed struct {
	Value string
	At    finding.Position
}

// Row is one row of a Table. Cells stand in the order of the table's columns;
// an empty cell is "".
type Row struct {
	Number int
	Cells  []string
}

// Position cites a cell by its row and the index of its column in t.Columns.
func (t *Table) Position(row Row, column int) finding.Position {
	c := t.Columns[column]
	return finding.Position{File: t.File, Worksheet: t.Worksheet, Row: row.Number, Column: c.Index, Heading: c.Heading}
}

// RowPosition cites a whole row.
func (t *Table) RowPosition(row Row) finding.Position {
	return finding.Position{File: t.File, Worksheet: t.Worksheet, Row: row.Number}
}

// Column finds a column by name and adapter; -1 if the sheet has none.
func (t *Table) Column(name string, adapter int) int {
	for i, c := range t.Columns {
		if c.Name == name && max(c.Adapter, 1) == max(adapter, 1) {
			return i
		}
	}
	return -1
}

// What is under no column of the table.
const (
	noHeading  = -1
	badHeading = -2
)

// searched is how many rows may stand above the headings.
const searched = 50

// headingLine finds the row of the headings: the first that has a machine
// column. Without one it is the row that has the most headings of ours, else
// the first that is not blank, and ok is false.
func (g grid) headingLine(rules []Rule) (best line, ok bool) {
	most, seen := 0, 0
	for l := range g.lines {
		if !g.named && blank(l.cells) {
			continue
		}
		known := 0
		for _, cell := range l.cells {
			c, ignored, understood := understand(cell, rules)
			if understood && !ignored {
				known++
			}
			ok = ok || understood && c.Name == "machine"
		}
		if ok || g.named {
			return l, ok
		}
		if known > most || seen == 0 {
			best, most = l, known
		}
		if seen++; seen == searched {
			break
		}
	}
	return best, false
}

// Added are the headings of the columns that a copy of a sheet has besides its own. In a sheet that is one, all of them, in this order,
// are passed over.
var Added = []string{"work", "state", "addresses given", "MAC given", "made on host", "when", "error", "records"}

// added counts the columns of a copy that begin at a heading.
func (l line) added(i int) int {
	for k, heading := range Added {
		if l.cell(i+k) != heading {
			return 0
		}
	}
	return len(Added)
}

func (t *Table) headings(l line, named bool, rules []Rule, found *finding.Collector) []int {
	at := make([]int, len(l.cells))
	passed := 0 // the index behind columns of a copy
	for i, cell := range l.cells {
		if added := l.added(i); added > 0 && i >= passed {
			passed = i + added
			t.AddedAt = cmp.Or(t.AddedAt, i+1)
		}
		if i < passed {
			at[i] = badHeading
			continue
		}
		if at[i] = noHeading; strings.TrimSpace(cell) == "" || l.covered[i] {
			continue
		}
		at[i] = badHeading
		pos := finding.Position{File: t.File, Worksheet: t.Worksheet, Row: l.number, Column: i + 1}
		c, ignored, ok := understand(cell, rules)
		if named {
			pos.Row, pos.Column = 0, 0
		} else {
			c.Index = i + 1
		}
		if ignored {
			continue
		}
		if !ok {
			hint := ""
			if !found.Full("unknown-column") {
				hint = finding.DidYouMean(c.Heading, column.Names())
			}
			if !strings.HasSuffix(hint, "?") {
				hint += "."
			}
			found.Add(finding.Finding{Code: "unknown-column", At: pos, Value: cell,
				Message: fmt.Sprintf("unknown column %q", c.Heading),
				Hint:    hint + " Map or ignore it under `columns:` in the setup"}, "")
			continue
		}
		if first := t.Column(c.Name, c.Adapter); first >= 0 {
			found.Add(finding.Finding{Code: "double-column", At: pos, Value: cell,
				Message: fmt.Sprintf("%q and %[3]q both mean %[2]s", c.Heading, c.ID(), t.Columns[first].Heading),
				Hint:    "remove one, or ignore it under `columns:` in the setup"}, "")
			continue
		}
		at[i] = len(t.Columns)
		t.Columns = append(t.Columns, c)
	}
	t.fix(rules)
	if _, fixed := t.Fixed["machine"]; t.Column("machine", 0) < 0 && !fixed {
		found.Add(finding.Finding{Code: "no-machine-column", At: finding.Position{File: t.File, Worksheet: t.Worksheet, Row: l.number},
			Message: "no column has the heading `machine`", Hint: "add it: it holds the machine names and is the only required column"}, "")
	}
	return at
}

// fix notes the values that the rules put into every row.
func (t *Table) fix(rules []Rule) {
	for _, r := range rules {
		if r.Fixed == nil {
			continue
		}
		if t.Fixed == nil {
			t.Fixed = map[string]Fixed{}
		}
		t.Fixed[r.Column.ID()] = Fixed{*r.Fixed, r.At}
	}
}

func blank(cells []string) bool {
	for _, c := range cells {
		if strings.TrimSpace(c) != "" {
			return false
		}
	}
	return true
}
