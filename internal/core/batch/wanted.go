package batch

import (
	"strings"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/column"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
)

// Wanted is a machine that the sheet asks for. Its addresses are yet to be assigned.
type Wanted struct {
	machine.Key
	*machine.Slim // never changed in place: another one takes its place
	// Wishes are the words of the address cells, by adapter.
	Wishes [][]Wish
	// Pinned is of a machine whose version of the template is named; else it is the newest.
	Pinned bool
	// Misnamed is of a machine that has another one's name, or none that it could have:
	// nothing more is said of it.
	Misnamed bool

	kept map[int]machine.Adapter // by adapter: one whose cell is empty keeps the addresses that it has
	row  *source
}

// Machine is the machine with its spec.
func (w *Wanted) Machine() *machine.Machine { return &machine.Machine{Key: w.Key, Spec: w.Spec()} }

// Change makes the machine another one than its row says.
func (w *Wanted) Change(change func(*machine.Spec)) {
	s := w.Spec()
	change(&s)
	w.Slim = w.row.commons.Slim(s)
}

// Wish is one word of an address cell.
type Wish struct {
	address.Wish
	Word string // as it is written
}

// Origin returns the text of a column, and where it came from.
func (w *Wanted) Origin(id string) Origin { return w.row.find(id) }

// Adapter returns the text of a column of an adapter, counted from 0.
func (w *Wanted) Adapter(name string, adapter int) Origin {
	return w.row.find(column.ID(name, adapter+1))
}

// Network returns what the setup calls the network of an adapter, counted from 0; empty if
// no column names it.
func (w *Wanted) Network(adapter int) string { return w.row.value(column.ID("network", adapter+1)) }

// Inherited returns the adapter whose addresses an adapter keeps, if its cell is empty.
func (w *Wanted) Inherited(adapter int) (machine.Adapter, bool) {
	has, ok := w.kept[adapter]
	return has, ok
}

// SealedAt returns where a sealed value is referred to.
func (w *Wanted) SealedAt(name string) finding.Position {
	for _, id := range []string{"password", "licence"} {
		if o := w.row.find(id); o.Value == "secret:"+name {
			return o.At
		}
	}
	for _, id := range []string{"firstboot", "preset"} {
		if o := w.row.find(id); o.Value != "" {
			return o.At
		}
	}
	return w.row.written("machine").At
}

// hostnameAt is where the machine's host name stands: by default it is the machine's.
func (w *Wanted) hostnameAt() finding.Position {
	if o := w.row.find("hostname"); strings.TrimSuffix(o.Value, ".") != "" {
		return o.At
	}
	return w.row.written("machine").At
}

// Row is the number of the machine's row in the sheet.
func (w *Wanted) Row() int { return w.row.row.Number }

// guest is the operating system of the machine's template.
func (s *source) guest() setup.Guest { return s.setup.Templates[s.template].Guest }
