package sandbox

import (
	"cmp"
	"net/netip"
	"strings"

	"mintbatch/internal/core/machine"
)

// inventory is what the machines of a site have of it, kept up to date: to look through
// all machines for each act would take the square of their number.
type inventory struct {
	names  map[string]*record // in lower case
	cards  map[string]*record // by MAC address
	leases map[lease]*record
	next   map[string]netip.Addr   // by network, an address before which all are leased
	used   map[string]machine.Size // by store
	memory map[string]machine.Size // by host, of machines that run
}

type lease struct {
	network string
	addr    netip.Addr
}

func newInventory() *inventory {
	return &inventory{names: map[string]*record{}, cards: map[string]*record{}, leases: map[lease]*record{}, next: map[string]netip.Addr{},
		used: map[string]machine.Size{}, memory: map[string]machine.Size{}}
}

// add takes a machine in.
func (v *inventory) add(r *record, p SitePlan) {
	v.sizes(r, p, 1)
	if r.there() {
		v.names[strings.ToLower(r.Name)] = r
	}
	for _, a := range r.Adapters {
		v.cards[a.MAC] = r
		if l := (lease{a.Network, a.Lease.Addr()}); a.Lease.IsValid() {
			v.leases[l] = r
			if v.next[l.network] == l.addr {
				v.next[l.network] = l.addr.Next()
			}
		}
	}
}

// remove takes a machine out, as it was when it was added.
func (v *inventory) remove(r *record, p SitePlan) {
	v.sizes(r, p, -1)
	if name := strings.ToLower(r.Name); v.names[name] == r {
		delete(v.names, name)
	}
	for _, a := range r.Adapters {
		if v.cards[a.MAC] == r {
			delete(v.cards, a.MAC)
		}
		if l := (lease{a.Network, a.Lease.Addr()}); v.leases[l] == r {
			delete(v.leases, l)
			if next, searched := v.next[l.network]; searched && l.addr.Less(next) {
				v.next[l.network] = l.addr
			}
		}
	}
}

func (v *inventory) sizes(r *record, p SitePlan, sign machine.Size) {
	if t, _ := p.template(r.Template); !r.OnlyData {
		v.used[r.Store] += sign * r.size(t)
	}
	for i, d := range r.Shape.Disks {
		if d.Kind == machine.FullDisk && r.dataFrom(i) == r.ID {
			v.used[cmp.Or(d.Store, r.Store)] += sign * d.Size
		}
	}
	if r.Power == machine.On {
		v.memory[r.Host] += sign * r.Shape.Memory
	}
}

// lease is what the network's DHCP server would give an adapter: the first address that
// is free, and that the machine's adapters before it do not have.
func (v *inventory) lease(n NetworkPlan, before []adapter) netip.Prefix {
	taken := map[netip.Addr]bool{}
	for _, a := range before {
		taken[a.Lease.Addr()] = true
	}
	next, searched := v.next[n.Name]
	if !searched {
		next = n.Leases.Addr()
	}
	for n.Leases.Contains(next) && v.leases[lease{n.Name, next}] != nil {
		next = next.Next()
	}
	v.next[n.Name] = next
	for a := next; n.Leases.Contains(a); a = a.Next() {
		if !taken[a] && v.leases[lease{n.Name, a}] == nil {
			return netip.PrefixFrom(a, 24)
		}
	}
	return netip.Prefix{}
}
