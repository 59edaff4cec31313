// Package column is the table of everything that decides a machine: the columns of a
// sheet, and the settings that only a template, a network or first-boot contents can
// give. What is to be known of one stands in its entry and nowhere else.
package column

import (
	"cmp"
	"slices"
	"strconv"

	"mintbatch/internal/core/machine"
)

// Column is a column of the sheet, or a setting that has none.
type Column struct {
	// Name is the column's id in sheets, setups and messages.
	Name string
	// Headings are what else people write above it; letter case, blanks, hyphens and
	// underscores do not count.
	Headings []string
	// PerAdapter is set if a machine has one such column for each adapter.
	PerAdapter bool
	// Prose is kept to the letter; of other cells surrounding blanks do not count.
	Prose bool
	// Literal columns do not expand placeholders: they decide which machine it is, or may
	// contain a secret.
	Literal bool
	// Secret is never repeated in a message.
	Secret bool
	// Stays is set if an empty cell leaves a made machine as it is.
	Stays bool
	// Code is that of a finding about the value; empty is bad- and the name.
	Code string
	// Clears is set if the word none takes away what an empty cell leaves as it is.
	Clears bool
	// Change is what it takes to change the setting of a machine that is made.
	Change Change
	// Visible means that a site, or a guest's report, shows the setting.
	Visible bool

	inSheet bool
	read    func(s *machine.Spec, text string) []Problem // nil for what is read with the help of the setup
	show    func(s *machine.Spec, adapter int) string
	copy    func(into, from *machine.Spec, adapter int)
	shrinks func(from, to *machine.Spec) bool
	grows   func(from, to *machine.Spec) bool
}

// Change says how a change can reach a machine.
type Change int

// In the order of what they cost.
const (
	InPlace   Change = iota // while the machine stays what it is
	Detached                // in place once the machine is made, and before that in another clone only
	Later                   // in place, but its guest is not reconfigured
	NextBoot                // at the first boot of another clone only; it is the same machine without it
	NextClone               // in another clone only; it is the same machine without it
	Another                 // in another clone, once the guest has started: it would be another machine
	Cloned                  // in another clone only
)

// NeedsClone reports whether another clone is needed even of a machine that has not
// started.
func (c Change) NeedsClone() bool { return c == NextClone || c == Cloned || c == Detached }

// Problem is what is wrong with a value.
type Problem struct{ Message, Hint string }

// MaxAdapters is how many adapters a machine may have.
const MaxAdapters = 16

// ID joins a column's name and its adapter; the first one's number is not written.
func ID(name string, adapter int) string {
	if adapter < 2 {
		return name
	}
	return name + "." + strconv.Itoa(adapter)
}

var byName = func() map[string]*Column {
	all := make(map[string]*Column, len(table))
	for i := range table {
		all[table[i].Name] = &table[i]
	}
	return all
}()

// All lists the columns and settings in the order in which they are shown.
func All() []Column { return table }

// Named returns the column of a name.
func Named(name string) (Column, bool) {
	c, ok := byName[name]
	if !ok {
		return Column{}, false
	}
	return *c, c.inSheet
}

// Names lists the columns that a sheet may have, in order.
func Names() []string { return slices.Clone(names) }

var names = func() (all []string) {
	for _, c := range table {
		if c.inSheet {
			all = append(all, c.Name)
		}
	}
	return all
}()

// Finding returns the code of a finding about the column's value.
func (c Column) Finding() string { return cmp.Or(c.Code, "bad-"+c.Name) }

// Reads reports whether the text of the column alone decides the setting.
func (c Column) Reads() bool { return c.read != nil }

// Read sets what a cell says, or the usual value for an empty one.
func (c Column) Read(s *machine.Spec, text string) []Problem { return c.read(s, text) }

// HasField reports whether the column is a setting of the spec.
func (c Column) HasField() bool { return c.show != nil }

// Show writes the setting of a spec as people read it; adapter counts from 0.
func (c Column) Show(s *machine.Spec, adapter int) string { return c.show(s, adapter) }

// Copy takes the setting over from another spec.
func (c Column) Copy(into, from *machine.Spec, adapter int) { c.copy(into, from, adapter) }

// ChangeTo is what it takes to change the setting from one spec's to another's: disks do
// not shrink, and a linked clone may become a full one.
func (c Column) ChangeTo(from, to *machine.Spec) Change {
	if c.shrinks != nil && c.shrinks(from, to) {
		return Cloned
	}
	if c.grows != nil && c.grows(from, to) {
		return Detached
	}
	return c.Change
}
