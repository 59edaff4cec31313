package finding

import "fmt"

// Position is a place that its reader can go to: a cell of a sheet or a value
// of a setup file. Rows and columns count from 1, as the programs that show
// them do; zero means that the finding is about the whole of what is named.
type Position struct {
	File      string `json:"file,omitempty"`
	Worksheet string `json:"worksheet,omitempty"`
	Row       int    `json:"row,omitempty"`
	Column    int    `json:"column,omitempty"`
	// Heading is what stands above the cell; a setup file has none.
	Heading string `json:"heading,omitempty"`
	// Text marks a position of a text file, cited as file:line:column.
	Text bool `json:"-"`
}

// IsZero reports whether the position names no place at all.
func (p Position) IsZero() bool { return p == Position{} }

// String cites the position the way its user sees it: `mintbatch.yaml:41:5`,
// `machines.csv, row 7, column 3 (address)` or
// `machines.xlsx, sheet "Nodes", F14 (memory)`.
func (p Position) String() string {
	s := p.File
	switch {
	case p.Row == 0:
		return s
	case p.Text:
		return fmt.Sprintf("%s:%d:%d", s, p.Row, p.Column)
	}
	if p.Worksheet != "" {
		s += fmt.Sprintf(", sheet %q", p.Worksheet)
	}
	switch {
	case p.Column == 0:
		s += fmt.Sprintf(", row %d", p.Row)
	case p.Worksheet != "":
		s += fmt.Sprintf(", %s%d", ColumnLetters(p.Column), p.Row)
	default:
		s += fmt.Sprintf(", row %d, column %d", p.Row, p.Column)
	}
	if p.Heading != "" {
		s += " (" + p.Heading + ")"
	}
	return s
}

// ColumnLetters names a column as spreadsheet programs do: 1 is A, 27 is AA.
func ColumnLetters(n int) string {
	var s string
	for ; n > 0; n = (n - 1) / 26 {
		s = string(rune('A'+(n-1)%26)) + s
	}
	return s
}
