// Package sheet reads an inventory sheet into a table of cells, each of which
// knows where it stands.
package sheet

import (
	"fmt"
	"strings"

	"mintbatch/internal/core/finding"
)

// Table is a sheet whose headings are understood.
type Table struct {
	File      string
	Worksheet string
	Columns   []Column
	Rows      []Row
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

// line is a row as it stands in a file of any kind.
type line struct {
	number int
	cells  []string
}

// arrange reads the headings from the first line and puts the cells of the
// others under them.
func arrange(file string, lines func(yield func(line) bool), found *finding.List) *Table {
	t := &Table{File: file}
	var at []int // for each cell of a line, its column in t.Columns or less than 0
	for l := range lines {
		if blank(l.cells) {
			continue
		}
		if at == nil {
			at = t.headings(l, found)
			continue
		}
		row := Row{Number: l.number, Cells: make([]string, len(t.Columns))}
		for i, cell := range l.cells {
			switch {
			case i < len(at) && at[i] >= 0:
				row.Cells[at[i]] = t.Columns[at[i]].clean(cell)
			case (i >= len(at) || at[i] == noHeading) && strings.TrimSpace(cell) != "":
				found.Add(finding.Finding{
					Code: "stray-cell", Value: cell,
					At:      finding.Position{File: file, Row: l.number, Column: i + 1},
					Message: "this cell has no heading above it",
					Hint:    "a separator too many? put quotes around a value that contains one",
				})
			}
		}
		t.Rows = append(t.Rows, row)
	}
	if at == nil {
		found.Add(finding.Finding{
			Code: "empty-sheet", At: finding.Position{File: file},
			Message: "the sheet is empty",
			Hint:    "the first row holds the headings; only `machine` is required",
		})
	}
	return t
}

// What headings tells of a cell that is under no column of the table.
const (
	noHeading  = -1
	badHeading = -2
)

func (t *Table) headings(l line, found *finding.List) []int {
	at := make([]int, len(l.cells))
	for i, cell := range l.cells {
		if at[i] = noHeading; strings.TrimSpace(cell) == "" {
			continue
		}
		at[i] = badHeading
		pos := finding.Position{File: t.File, Row: l.number, Column: i + 1}
		c, ok := ParseColumn(cell)
		if !ok {
			found.Add(finding.Finding{Code: "unknown-column", At: pos, Value: cell,
				Message: fmt.Sprintf("unknown column %q", c.Heading),
				Hint:    finding.DidYouMean(c.Heading, ColumnNames())})
			continue
		}
		if first := t.Column(c.Name, c.Adapter); first >= 0 {
			found.Add(finding.Finding{Code: "double-column", At: pos, Value: cell,
				Message: fmt.Sprintf("column %d already is %q", t.Columns[first].Index, c.ID()),
				Hint:    "keep one of the two"})
			continue
		}
		c.Index = i + 1
		at[i] = len(t.Columns)
		t.Columns = append(t.Columns, c)
	}
	if t.Column("machine", 0) < 0 {
		found.Add(finding.Finding{Code: "no-machine-column", At: finding.Position{File: t.File, Row: l.number},
			Message: "no column is headed `machine`", Hint: "it holds each machine's name and is the only one required"})
	}
	return at
}

func blank(cells []string) bool {
	for _, c := range cells {
		if strings.TrimSpace(c) != "" {
			return false
		}
	}
	return true
}
