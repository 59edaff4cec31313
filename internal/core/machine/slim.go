package machine

import "slices"

// Slim is a spec in little memory: what is a machine's own, and the rest, which is in memory once for all that have it in
// common. The zero Slim is that of the zero Spec.
type Slim struct {
	Adapters []Adapter
	Info     Info
	Hostname string
	common   *Spec // without what is the machine's own; never changed
}

// Spec is the whole spec. Its adapters are those of the Slim; nothing else that it refers to is to be changed.
func (s *Slim) Spec() Spec {
	whole := *s.Common()
	whole.Adapters, whole.Info, whole.Guest.Hostname = s.Adapters, s.Info, s.Hostname
	return whole
}

// Common is the spec without what is the machine's own. It is not to be changed.
func (s *Slim) Common() *Spec {
	if s.common == nil {
		return &Spec{}
	}
	return s.common
}

// FQDN is the guest's host name with the domain, if there is one.
func (s *Slim) FQDN() string {
	return Guest{Hostname: s.Hostname, Domain: s.Common().Guest.Domain}.FQDN()
}

// Slim is the spec as a Slim that has nothing in common with others.
func (s Spec) Slim() *Slim {
	slim, common := s.parted()
	slim.common = &common
	return &slim
}

// parted is what is a machine's own, and the rest.
func (s Spec) parted() (own Slim, common Spec) {
	own = Slim{Adapters: s.Adapters, Info: s.Info, Hostname: s.Guest.Hostname}
	s.Adapters, s.Info, s.Guest.Hostname = nil, Info{}, ""
	return own, s
}

// Commons has what machines have in common.
type Commons map[likeness]*kept

// kept is the spec of machines without what is their own, and the adapters of one of them.
type kept struct {
	common   Spec
	adapters []Adapter
}

// likeness is what machines differ in most often, apart from what is their own.
type likeness struct {
	preset, template, login, domain, host, store string
	cpus                                         int
	memory, disk                                 Size
}

// mostCommons is how many are known at a time: where machines have little in common, they would only take room.
const mostCommons = 4096

// Slim is a spec with what it has in common with those before it. The list of its adapters may be changed afterwards.
func (c Commons) Slim(s Spec) *Slim {
	like := likeness{s.Preset, s.Template, s.Guest.Login, s.Guest.Domain, s.Clone.Host, s.Clone.Store, s.Shape.CPUs, s.Shape.Memory, s.Shape.Disk}
	slim, common := s.parted()
	has := c[like]
	if has == nil || !Same(&has.common, &common) {
		if len(c) == mostCommons {
			clear(c)
		}
		has = &kept{common, slices.Clone(s.Adapters)}
		c[like] = has
	}
	slim.common = &has.common
	if slim.Adapters = has.adapters; len(s.Adapters) == 0 || !slices.EqualFunc(s.Adapters, has.adapters, Adapter.same) { // of those that have addresses
		slim.Adapters = slices.Clone(s.Adapters)
	}
	return &slim
}
