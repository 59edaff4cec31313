package batch

import "mintbatch/internal/core/machine"

// commons has what machines have in common, which is in memory once: specs without what is a machine's own.
type commons map[likeness]*machine.Spec

// likeness is what rows differ in most often, apart from what is their machines' own.
type likeness struct {
	preset, template, login, domain, host, store string
	cpus                                         int
	memory, disk                                 machine.Size
}

// mostCommons is how many are known at a time: where rows have little in common, they would only take room.
const mostCommons = 4096

// find is a spec that is the same as the given one.
func (c commons) find(s machine.Spec) *machine.Spec {
	like := likeness{s.Preset, s.Template, s.Guest.Login, s.Guest.Domain, s.Clone.Host, s.Clone.Store, s.Shape.CPUs, s.Shape.Memory, s.Shape.Disk}
	if has := c[like]; has != nil && machine.Same(has, &s) {
		return has
	}
	if len(c) == mostCommons {
		clear(c)
	}
	own := s // only this one is kept
	c[like] = &own
	return &own
}
