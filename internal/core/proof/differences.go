package proof

import (
	"slices"
	"strings"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/machine"
)

// change is a value that differs, and what it takes to have it.
type change struct {
	Reason
	takes column.Change
}

type changes []change

func (cs changes) any(is func(column.Change) bool) bool {
	return slices.ContainsFunc(cs, func(c change) bool { return is(c.takes) })
}

// split parts what reaches only machines yet to be made from all else.
func (cs changes) split() (dated, rest changes) {
	for _, c := range cs {
		if c.takes == column.NextBoot || c.takes == column.NextClone {
			dated = append(dated, c)
		} else {
			rest = append(rest, c)
		}
	}
	return dated, rest
}

func (cs changes) reasons() []Reason {
	var all []Reason
	for _, c := range cs {
		all = append(all, c.Reason)
	}
	return all
}

// settings are the columns with a field of the spec: those of the machine, and those of
// each adapter, which come right before the place.
var settings, adapterSettings = func() (all, each []column.Column) {
	for _, c := range column.All() {
		switch {
		case c.PerAdapter:
			each = append(each, c)
		case c.HasField():
			all = append(all, c)
		}
	}
	return all, each
}()

// between lists what two specs do not agree in.
func between(from, to *machine.Slim) changes {
	if from == to {
		return nil
	}
	a, b := from.Spec(), to.Spec()
	return differences(&a, &b)
}

// differences lists what two specs do not agree in, in the order of the columns.
func differences(from, to *machine.Spec) changes {
	if machine.Same(from, to) { // as most are
		return nil
	}
	var cs changes
	diff := func(c column.Column, adapter int) {
		if x, y := c.Show(from, adapter), c.Show(to, adapter); x != y {
			cs = append(cs, change{Reason{Field: column.ID(c.Name, adapter+1), From: x, To: y}, c.ChangeTo(from, to)})
		}
	}
	for _, c := range settings {
		if c.Name == "answers" { // the answers come after the connections
			adapters(&cs, from, to, diff)
		}
		before := len(cs)
		diff(c, 0)
		// Of the same name in the setup, only what the template contains has changed.
		if c.Name == "template" && len(cs) > before && from.Template != "" && from.Template == to.Template {
			cs[before].Field, cs[before].takes = "template's disk", column.NextClone
		}
	}
	return cs
}

// adapters adds the differences of adapters. One that is added is a difference as a
// whole.
func adapters(cs *changes, from, to *machine.Spec, diff func(c column.Column, adapter int)) {
	for i := range max(len(from.Adapters), len(to.Adapters)) {
		if b := at(to.Adapters, i); i >= len(from.Adapters) && b.Network != "" && b.Parent == (machine.Parent{}) {
			what := strings.TrimSpace(b.Network + " " + show("address", to, i))
			*cs = append(*cs, change{Reason{Field: column.ID("network", i+1), To: what, GuestNotUpdated: true}, column.Later})
			continue
		}
		for _, c := range adapterSettings {
			diff(c, i)
		}
	}
}

// show writes one setting of a spec.
func show(name string, s *machine.Spec, adapter int) string {
	c, _ := column.Named(name)
	return c.Show(s, adapter)
}

// at is the i-th of a list, or nothing.
func at[T any](all []T, i int) (v T) {
	if i < len(all) {
		v = all[i]
	}
	return v
}
