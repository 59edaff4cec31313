package sheet

import (
	"strconv"
	"strings"
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
	// Index is the column's place in the sheet, from 1.
	Index int
}

// Kinds of text that a column holds.
const (
	plain   = iota // surrounding blanks do not count
	text           // kept to the letter
	perCard        // one column for each adapter
)

var columns = map[string]int{
	"machine": plain, "preset": plain, "template": plain, "site": plain,
	"host": plain, "store": plain, "folder": plain, "clone": plain,
	"cpus": plain, "memory": plain, "disk": plain,
	"network": perCard, "address": perCard, "mac": perCard,
	"hostname": plain, "domain": plain, "login": plain, "password": plain,
	"keys": plain, "timezone": plain, "locale": plain, "firstboot": plain,
	"power": plain, "checkpoint": plain, "until": plain, "labels": plain,
	"owner": text, "notes": text,
}

// ColumnNames lists every column that a sheet may have.
func ColumnNames() []string {
	names := make([]string, 0, len(columns))
	for name := range columns {
		names = append(names, name)
	}
	return names
}

// ParseColumn tells what a heading means: `Memory (GiB)` is the memory column
// with a unit, `address.2` that of the second adapter.
func ParseColumn(heading string) (Column, bool) {
	name := strings.ToLower(strings.TrimSpace(heading))
	c := Column{Heading: strings.TrimSpace(heading)}
	if before, after, found := strings.Cut(name, "("); found && strings.HasSuffix(after, ")") {
		name = strings.TrimSpace(before)
		c.Unit = strings.TrimSpace(strings.TrimSuffix(after, ")"))
		if name != "memory" && name != "disk" {
			return c, false
		}
	}
	base, number, numbered := strings.Cut(name, ".")
	kind, known := columns[base]
	if !known || numbered && kind != perCard {
		return c, false
	}
	if kind == perCard {
		c.Adapter = 1
	}
	if numbered {
		n, err := strconv.Atoi(number)
		if err != nil || n < 1 || n > MaxAdapters || strconv.Itoa(n) != number {
			return c, false
		}
		c.Adapter = n
	}
	c.Name = base
	return c, true
}

// MaxAdapters is how many adapters a machine may have.
const MaxAdapters = 16

// ID names the column as the setup and messages do: `address.2`, `memory`.
func (c Column) ID() string { return ColumnID(c.Name, c.Adapter) }

// ColumnID joins a column's name and its adapter; the first one's number is
// not written.
func ColumnID(name string, adapter int) string {
	if adapter < 2 {
		return name
	}
	return name + "." + strconv.Itoa(adapter)
}

// clean takes the blanks around a cell away, except where text is kept as it is.
func (c Column) clean(cell string) string {
	trimmed := strings.TrimSpace(cell)
	if trimmed != "" && columns[c.Name] == text {
		return cell
	}
	return trimmed
}
