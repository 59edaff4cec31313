package mint

import (
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
)

// Scope reports which machines a command is about.
type Scope func(machine.Key) bool

// Everything is the scope of what concerns the ledger as a whole.
func Everything(machine.Key) bool { return true }

// Named is the scope of names and globs; of everything where there are none.
func Named(globs []string) Scope { return glob.Keys(globs) }

// Of is the scope of some works.
func Of(works []proof.Work) Scope {
	keys := make(map[machine.Key]bool, len(works))
	for i := range works {
		keys[works[i].Key] = true
	}
	return func(key machine.Key) bool { return keys[key] }
}

// InSheet is the scope of the sheet's machines whose names match, or of all.
func (d *Desk) InSheet(globs []string) Scope {
	wanted, among := d.ByKey(), glob.Keys(globs)
	return func(key machine.Key) bool { return wanted[key] != nil && among(key) }
}

// NotInSheet is the scope of strays.
func (d *Desk) NotInSheet() Scope {
	wanted := d.ByKey()
	return func(key machine.Key) bool { return wanted[key] == nil }
}
