// Package place chooses the host and store of each machine where neither its
// row nor its site does, and tells what does not fit before anything is made.
package place

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

// Order asks for the place of one machine.
type Order struct {
	machine.Key
	// Host and Store are those that the row names, or that the machine has
	// already; empty leaves the choice.
	Host, Store string
	Kind        machine.CloneKind
	Template    contract.Template
	// Memory is what the machine takes of a host besides what it takes now.
	Memory machine.Size
	// Frees is what the clone that this one replaces gives back to the store first.
	Frees machine.Size
	// Clone reports whether there is a disk to be made; Disks are the data disks.
	Clone bool
	Disks []machine.Disk
	// Whole is the size of a system disk that takes its room at once; 0 for any other.
	Whole machine.Size
	// Needs are features of hosts.
	Needs    []string
	Networks []string
	// Group is what is kept on different hosts as far as possible.
	Group string
}

// Place is where a machine goes.
type Place struct {
	Host  string `json:"host"`
	Store string `json:"store"`
	// Takes is what the clone takes of its store at once, Saves what a linked
	// one takes less than a full one would.
	Takes machine.Size `json:"takes,omitempty"`
	Saves machine.Size `json:"saves,omitempty"`
}

// Spare is what has to stay free.
type Spare struct{ Memory, Disk machine.Size }

// Shortfall is a machine that fits nowhere, and why.
type Shortfall struct {
	machine.Key
	Column string // of the sheet, that is nearest to the cause
	Reason string
}

// linkedSize is what a linked clone takes of its store at once, about.
const linkedSize = machine.MiB

// Room is what is left of a site.
type Room struct {
	spare  Spare
	hosts  []*host
	stores map[string][]*store // by name; those of several hosts may share one
}

type host struct {
	contract.Host
	left   machine.Size
	groups map[string]int
}

type store struct {
	contract.Store
	left machine.Size
}

// NewRoom takes stock of a site. Machines that are there already count towards
// their groups.
func NewRoom(s *contract.Survey, spare Spare, groups func(contract.Machine) string) *Room {
	r := &Room{spare: spare, stores: map[string][]*store{}}
	for _, h := range s.Hosts {
		left := min(h.Memory-h.Promised, h.FreeMemory) - spare.Memory
		r.hosts = append(r.hosts, &host{Host: h, left: left, groups: map[string]int{}})
	}
	for _, st := range s.Stores {
		r.stores[st.Name] = append(r.stores[st.Name], &store{st, st.Free - spare.Disk})
	}
	for _, m := range s.Machines {
		for _, h := range r.hosts {
			if g := groups(m); h.Name == m.Host && g != "" {
				h.groups[g]++
			}
		}
	}
	return r
}

// storeAt is the store of a name as one host has it.
func (r *Room) storeAt(h *host, name string) *store {
	for _, st := range r.stores[name] {
		if slices.Contains(h.Stores, name) && (len(st.Hosts) == 0 || slices.Contains(st.Hosts, h.Name)) {
			return st
		}
	}
	return nil
}

// Plan places all orders: those with the least choice first, then the largest.
// The same orders and room always give the same places, in whatever order.
func (r *Room) Plan(orders []Order) (map[machine.Key]Place, []Shortfall) {
	sorted := slices.Clone(orders)
	slices.SortFunc(sorted, func(a, b Order) int {
		return cmp.Or(cmp.Compare(free(a), free(b)), -cmp.Compare(a.Memory, b.Memory), cmp.Compare(a.Name, b.Name))
	})
	places := map[machine.Key]Place{}
	var short []Shortfall
	for _, o := range sorted {
		p, problem := r.place(o)
		if problem != nil {
			short = append(short, *problem)
			continue
		}
		places[o.Key] = p
	}
	return places, short
}

// free counts what an order leaves open.
func free(o Order) int {
	n := 0
	if o.Host == "" {
		n += 2
	}
	if o.Store == "" {
		n++
	}
	return n
}

type candidate struct {
	host  *host
	store *store
}

func (r *Room) place(o Order) (Place, *Shortfall) {
	var best *candidate
	var whys []why
	for _, h := range r.hosts {
		if o.Host != "" && h.Name != o.Host {
			continue
		}
		if h.Down != "" {
			if o.Host != "" {
				return Place{Host: o.Host, Store: o.Store}, nil // it will fail there with an error; nothing else stands in its way
			}
			continue
		}
		c, w := r.try(o, h)
		if w != nil {
			whys = append(whys, *w)
			continue
		}
		if best == nil || better(o, *c, *best) {
			best = c
		}
	}
	if best == nil {
		return Place{}, shortfall(o, whys)
	}
	best.host.left -= o.Memory
	best.host.groups[o.Group]++
	place := Place{Host: best.host.Name, Store: o.Store}
	if o.Clone {
		place.Store = best.store.Name
		best.store.left -= size(o) - o.Frees
		place.Takes = size(o)
		if o.Kind == machine.Linked {
			place.Saves = max(o.Template.Used-linkedSize, 0)
		}
		for _, d := range o.Disks {
			if d.Kind == machine.FullDisk {
				r.storeAt(best.host, cmp.Or(d.Store, place.Store)).left -= d.Size
				place.Takes += d.Size
			}
		}
	}
	return place, nil
}

// why is what stands against a host.
type why struct{ column, reason string }

// try looks whether a machine fits at a host, and in which of its stores best.
func (r *Room) try(o Order, h *host) (*candidate, *why) {
	for i, n := range o.Networks {
		if len(h.Networks) > 0 && !contract.Connects(h.Networks, n) {
			return nil, &why{column("network", i), fmt.Sprintf("host %s has no network %s", h.Name, n)}
		}
	}
	for _, feature := range o.Needs {
		if h.Features != nil && !slices.Contains(h.Features, feature) {
			return nil, &why{"template", fmt.Sprintf("host %s has no %s", h.Name, feature)}
		}
	}
	if o.Memory > max(h.left, 0) && o.Memory > 0 {
		return nil, &why{"memory", fmt.Sprintf("host %s has %s of free memory, %s needed (%s set aside)", h.Name, whole(h.left), o.Memory, r.spare.Memory)}
	}
	if !o.Clone {
		return &candidate{host: h}, nil
	}
	if o.Kind == machine.Linked && len(o.Template.Hosts) > 0 && !slices.Contains(o.Template.Hosts, h.Name) {
		return nil, &why{"template", fmt.Sprintf("host %s cannot reach template %s, which a linked clone needs", h.Name, o.Template.Name)}
	}
	names := []string{o.Store}
	if o.Store == "" {
		names = h.Stores
	}
	var best *store
	last := why{"store", fmt.Sprintf("host %s has no store %q", h.Name, o.Store)}
	for _, name := range names {
		st := r.storeAt(h, name)
		if st == nil {
			continue
		}
		if w := r.room(o, h, st); w != nil {
			last = *w
			continue
		}
		// A linked clone stays with its parent; any other goes where most room is.
		if o.Kind == machine.Linked && st.Name == o.Template.Store {
			return &candidate{h, st}, nil
		}
		if best == nil || st.left > best.left {
			best = st
		}
	}
	if best == nil {
		return nil, &last
	}
	return &candidate{h, best}, nil
}

// room looks whether all disks find their room.
func (r *Room) room(o Order, h *host, st *store) *why {
	needs := map[*store]machine.Size{st: size(o) - o.Frees}
	order := []*store{st}
	for _, d := range o.Disks {
		at := st
		if d.Store != "" {
			at = r.storeAt(h, d.Store)
		}
		if at == nil {
			return &why{"disks", fmt.Sprintf("host %s has no store %q", h.Name, d.Store)}
		}
		if d.Kind == machine.FullDisk {
			needs[at] += d.Size
			order = append(order, at)
		}
	}
	for _, at := range order {
		if n := needs[at]; n > at.left {
			column := "store"
			if at != st || size(o)-o.Frees <= at.left {
				column = "disks"
			}
			return &why{column, fmt.Sprintf("store %s has %s free, %s needed (%s set aside)", at.Name, whole(at.left), n, r.spare.Disk)}
		}
	}
	return nil
}

// whole is what there is, in whole MiB.
func whole(left machine.Size) machine.Size { return max(left, 0) / machine.MiB * machine.MiB }

func column(name string, adapter int) string {
	if adapter == 0 {
		return name
	}
	return fmt.Sprintf("%s.%d", name, adapter+1)
}

// size is what the clone itself takes.
func size(o Order) machine.Size {
	if o.Kind == machine.Full {
		return max(o.Template.Used, o.Whole)
	}
	return linkedSize
}

// better compares two hosts for an order: its group is spread first, a full
// clone is made where its template is, and then the emptier host wins.
func better(o Order, a, b candidate) bool {
	if o.Group != "" && a.host.groups[o.Group] != b.host.groups[o.Group] {
		return a.host.groups[o.Group] < b.host.groups[o.Group]
	}
	if near := func(c candidate) bool { return slices.Contains(o.Template.Hosts, c.host.Name) }; near(a) != near(b) {
		return near(a)
	}
	if share := func(c candidate) float64 { return float64(c.host.left) / float64(max(c.host.Memory, 1)) }; share(a) != share(b) {
		return share(a) > share(b)
	}
	return a.host.Name < b.host.Name
}

func shortfall(o Order, whys []why) *Shortfall {
	s := &Shortfall{Key: o.Key, Column: "host", Reason: "no host is up"}
	if o.Host != "" {
		s.Reason = fmt.Sprintf("there is no host %s", o.Host)
	}
	if len(whys) > 0 {
		var words []string
		for _, w := range whys {
			if !slices.Contains(words, w.reason) {
				words = append(words, w.reason)
			}
		}
		s.Column, s.Reason = whys[0].column, strings.Join(words, "; ")
	}
	return s
}

// Left reports what the plans so far leave of hosts and stores.
func (r *Room) Left() (hosts, stores map[string]machine.Size) {
	hosts, stores = map[string]machine.Size{}, map[string]machine.Size{}
	for _, h := range r.hosts {
		hosts[h.Name] = h.left + r.spare.Memory
	}
	for name, all := range r.stores {
		for _, st := range all {
			stores[StoreID(name, st.Hosts)] = st.left + r.spare.Disk
		}
	}
	return hosts, stores
}

// StoreID distinguishes stores of one name by the hosts that reach them, as
// `pool@quay-1,quay-2`; where hosts are not told it is just the name.
func StoreID(name string, hosts []string) string {
	if len(hosts) == 0 {
		return name
	}
	return name + "@" + strings.Join(hosts, ",")
}
