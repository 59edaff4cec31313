package sheet

import (
	"slices"
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
	// Index is the column's place in the sheet, from 1; 0 in a list, whose
	// values have keys and no places.
	Index int
}

// Kinds of text that a column holds.
const (
	plain   = iota // surrounding blanks do not count
	text           // kept to the letter
	perCard        // one column for each adapter
)

// order is the order in which columns are told.
var order = []string{"machine", "preset", "template", "site", "host", "store", "folder", "clone", "cpus", "memory", "disk", "disks",
	"firmware", "network", "address", "mac", "wire", "via", "hostname", "domain", "login", "password", "keys", "timezone", "locale", "licence", "firstboot",
	"power", "checkpoint", "owner", "notes", "until", "labels"}

var columns = map[string]int{
	"machine": plain, "preset": plain, "template": plain, "site": plain,
	"host": plain, "store": plain, "folder": plain, "clone": plain,
	"cpus": plain, "memory": plain, "disk": plain, "disks": plain,
	"firmware": plain, "network": perCard, "address": perCard, "mac": perCard, "wire": perCard, "via": perCard,
	"hostname": plain, "domain": plain, "login": plain, "password": plain,
	"keys": plain, "timezone": plain, "locale": plain, "licence": plain, "firstboot": plain,
	"power": plain, "checkpoint": plain, "until": plain, "labels": plain,
	"owner": text, "notes": text,
}

// ColumnNames lists every column that a sheet may have, in order.
func ColumnNames() []string { return slices.Clone(order) }

// PerAdapter tells whether a machine has one such column for each adapter.
func PerAdapter(name string) bool { return columns[name] == perCard }

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

// clean takes the blanks around a cell away, except where text is kept as it
// is, and gives a bare number the unit of its heading.
func (c Column) clean(cell string) string {
	trimmed := strings.TrimSpace(cell)
	switch {
	case trimmed != "" && columns[c.Name] == text:
		return cell
	case trimmed != "" && strings.Trim(trimmed, "0123456789.") == "":
		return trimmed + c.Unit
	}
	return trimmed
}
