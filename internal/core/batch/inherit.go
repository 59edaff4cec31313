package batch

import (
	"slices"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/machine"
)

// Has is what a machine was made to, and where its site has put it.
type Has struct {
	*machine.Spec
	Host, Store string
	Firmware    machine.Firmware
}

// Inherit fills in what the row, its preset, its template and the defaults leave
// empty: that stays as the machine has it. What they name and the machine has
// anyway, because its site chose it, is no difference either.
func (w *Wanted) Inherit(has Has) {
	empty := func(id string) bool { return w.row.value(id) == "" }
	w.Change(func(s *machine.Spec) {
		s.Info = s.Info.AsExtended(has.Info)
		hostname, password := s.Guest.Hostname, s.Guest.Password
		all := column.All()
		for i := range all {
			if c := &all[i]; c.Stays && empty(c.Name) {
				c.Copy(s, has.Spec, 0)
			}
		}
		if has.Guest.Hostname == "" {
			s.Guest.Hostname = hostname
		}
		if s.Guest.Login != has.Guest.Login { // the password is another login's
			s.Guest.Password = password
		}
		if empty("disk") {
			s.Clone.DiskKind = has.Clone.DiskKind
		}
		written(&s.Clone.Host, has.Clone.Host, has.Host)
		written(&s.Clone.Store, has.Clone.Store, has.Store)
		written(&s.Clone.Firmware, has.Clone.Firmware, has.Firmware)
		s.Shape.Disks = slices.Clone(s.Shape.Disks) // the row's machines share them
		for i := range min(len(s.Shape.Disks), len(has.Shape.Disks)) {
			d := &s.Shape.Disks[i]
			if d.Store == "" {
				d.Store = has.Shape.Disks[i].Store
			}
			written(&d.Store, has.Shape.Disks[i].Store, has.Store)
		}
	})
	for i, a := range has.Adapters {
		switch id := column.ID("network", i+1); {
		case i < len(w.Adapters):
			// Of another network it cannot stay what it is.
			if empty(column.ID("address", i+1)) && a.Network == w.Adapters[i].Network {
				w.inheritAddresses(i, a)
			}
		case i == len(w.Adapters) && empty(id):
			w.Adapters = append(slices.Clip(w.Adapters), a.Unassigned())
			w.Wishes = append(w.Wishes, nil)
			w.inheritAddresses(i, a)
		}
	}
}

// written takes what a row names as not named, where the machine was made without it and
// its site has chosen just that.
func written[T ~string](into *T, asked, has T) {
	if asked == "" && *into == has {
		*into = asked
	}
}

// inheritAddresses lets an adapter have the addresses that it has.
func (w *Wanted) inheritAddresses(i int, has machine.Adapter) {
	if w.kept == nil {
		w.kept = map[int]machine.Adapter{}
	}
	w.kept[i], w.Wishes[i] = has, nil
}
