package sheet

import (
	"strings"

	"mintbatch/internal/core/column"
)

// Column is a column of a sheet: what it means and where it stands.
type Column struct {
	// Name is one of our own column names.
	Name string
	// Adapter counts a machine's adapters from 1; it is 0 for a column that
	// does not belong to one.
	Adapter int
	// Heading is what the sheet itself says above the column.
	Heading string
	// Unit is what the heading says of its bare numbers, as in `memory (GiB)`.
	Unit string
	// Index is the column's place in the sheet, from 1; 0 in a list, whose
	// values have keys and no places.
	Index int
}

// ID names the column as the setup and messages do: `address.2`, `memory`.
func (c Column) ID() string { return column.ID(c.Name, c.Adapter) }

// clean takes the blanks around a cell away, except where text is kept as it
// is, and gives a bare number the unit of its heading.
func (c Column) clean(cell string) string {
	trimmed := strings.TrimSpace(cell)
	means, _ := column.Named(c.Name)
	switch {
	case trimmed != "" && means.Prose:
		return cell
	case trimmed != "" && strings.Trim(trimmed, "0123456789.,' \u00a0\u202f") == "":
		return trimmed + c.Unit
	}
	return trimmed
}
