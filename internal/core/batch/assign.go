package batch

import (
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/seed"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// Past is what is known from before: what the ledger has, and what was seen at
// the sites.
type Past struct {
	Ledger uuid.UUID
	Held   []address.Reservation
	// MACs are those of machines of the ledger, by adapter from the first.
	MACs map[machine.Key][]string
	// Foreign are those of machines that are not ours, and whose they are.
	Foreign map[string]string
	Now     time.Time
}

// Assign gives every adapter its MAC address and its addresses. It returns
// what is to be reserved: first of all the literal addresses are claimed, then
// the pooled ones drawn in the order of the sheet, so that the same sheet and
// the same ledger always give the same addresses.
func Assign(wanted []*Wanted, s *setup.Setup, past Past) ([]address.Reservation, finding.List) {
	a := &assigner{setup: s, networks: s.AddressNetworks(), book: address.NewBook(past.Held, past.Now), past: past,
		cells: map[netKey]finding.Position{}, macs: map[string]finding.Position{}, owners: map[string]machine.Key{}, short: map[string]*shortage{}}
	for key, macs := range past.MACs {
		for _, mac := range macs {
			a.owners[mac] = key
		}
	}
	for _, w := range wanted {
		a.machine(w)
	}
	for _, w := range wanted {
		a.draw(w)
		a.ways(w)
	}
	a.tellShort()
	for _, m := range a.misplaced {
		if free := a.book.Free(m.network, 3); len(free) > 0 {
			f := &a.found[m.finding]
			f.Hint = strings.TrimPrefix(fmt.Sprintf("%s; free are %s", f.Hint, strings.Join(words(free), ", ")), "; ")
		}
	}
	for _, w := range wanted {
		a.answers(w)
	}
	return a.reserved, a.found
}

// answers tells why a machine's answers cannot be written in its guest's form.
// All text fits into cloud-init's.
func (a *assigner) answers(w *Wanted) {
	if w.duplicate || w.Guest.Answers == machine.CloudInit || w.Guest.Answers == machine.NoAnswers {
		return
	}
	made, err := seed.Of(answers.Hidden(w.Machine, ""))
	if err == nil {
		err = made.Check()
	}
	if err != nil {
		o := w.row.find("template")
		a.bad("bad-answers", o.At, o.Value, fmt.Sprintf("the answers of %s cannot be written: %s", w.Name, err), "")
	}
}

type netKey struct {
	network string
	addr    netip.Addr
}

type assigner struct {
	setup    *setup.Setup
	networks map[string]address.Network
	book     *address.Book
	cells    map[netKey]finding.Position
	macs     map[string]finding.Position
	past     Past
	owners   map[string]machine.Key // of MAC addresses
	short    map[string]*shortage   // by network and pool
	reserved []address.Reservation
	found    finding.List
	// misplaced are findings whose hint tells free addresses, once all
	// claims are known.
	misplaced []misplaced
}

type misplaced struct {
	finding int
	network address.Network
}

func words(all []netip.Addr) []string {
	out := make([]string, len(all))
	for i, a := range all {
		out[i] = a.String()
	}
	return out
}

func (a *assigner) network(w *Wanted, adapter int) (address.Network, bool) {
	n, ok := a.networks[w.row.find(sheet.ColumnID("network", adapter)).Value]
	return n, ok
}

func (a *assigner) bad(code string, at finding.Position, value any, message, hint string) {
	a.found.Add(finding.Finding{Code: code, At: at, Value: fmt.Sprint(value), Message: message, Hint: hint})
}

// offer adds free addresses to the hint of the last finding.
func (a *assigner) offer(n address.Network) {
	a.misplaced = append(a.misplaced, misplaced{len(a.found) - 1, n})
}

// machine sets the MACs and claims the literal addresses.
func (a *assigner) machine(w *Wanted) {
	if w.duplicate {
		return
	}
	for i := range w.Adapters {
		adapter := &w.Adapters[i]
		// Without whatever an earlier call has given.
		*adapter = machine.Adapter{Network: adapter.Network, MAC: adapter.MAC, VLAN: adapter.VLAN, Model: adapter.Model, Unplugged: adapter.Unplugged,
			MTU: adapter.MTU, NoIPv6: adapter.NoIPv6, Via: adapter.Via}
		if adapter.Via.Tagged() {
			adapter.MAC = w.Adapters[adapter.Via.Adapter-1].MAC
		}
		if adapter.MAC == "" {
			adapter.MAC = a.mac(w, i)
		}
		at := w.row.find(sheet.ColumnID("mac", i+1)).At
		if first, taken := a.macs[adapter.MAC]; taken && !adapter.Via.Tagged() {
			a.bad("duplicate-mac", at, adapter.MAC, fmt.Sprintf("MAC address %s is already in %s", adapter.MAC, first), "each adapter has its own")
		}
		if whose, foreign := a.past.Foreign[adapter.MAC]; foreign && !adapter.Via.Tagged() {
			a.bad("duplicate-mac", at, adapter.MAC, fmt.Sprintf("MAC address %s is that of %s", adapter.MAC, whose), "each adapter has its own")
		}
		a.macs[adapter.MAC] = at
		a.owners[adapter.MAC] = w.Key
		for _, wish := range w.wishes[i] {
			switch wish.Kind {
			case address.DHCP:
				adapter.DHCP = true
			case address.DHCP6:
				adapter.DHCP6 = true
			case address.SLAAC:
				adapter.SLAAC = true
			case address.Literal:
				a.claim(w, i, wish)
			}
		}
	}
}

// mac is the adapter's own: the one that it has, else one that no other has.
func (a *assigner) mac(w *Wanted, i int) string {
	prefix, _ := machine.ParsePrefix(a.setup.Sites[w.Site].MACs) // the setup's check has read it
	if had := a.past.MACs[w.Key]; i < len(had) && strings.HasPrefix(had[i], net.HardwareAddr(prefix).String()) {
		return had[i]
	}
	for try := 0; ; try++ {
		mac := machine.MAC(a.past.Ledger, w.Key, i+1, prefix, try).String()
		_, here := a.macs[mac]
		_, foreign := a.past.Foreign[mac]
		if owner, owned := a.owners[mac]; !here && !foreign && (!owned || owner == w.Key) || try == mostTries {
			return mac
		}
	}
}

// mostTries is how often another MAC address is tried. With a prefix of four
// bytes there are 65,536 in all; whoever has more adapters than that is told.
const mostTries = 1000

func (a *assigner) claim(w *Wanted, i int, wish wish) {
	network, ok := a.network(w, i+1)
	if !ok {
		return // told where the network is named
	}
	if err := network.Check(wish.Addr); err != nil {
		hint := ""
		for _, name := range setup.Names(a.networks) {
			if name != network.Name && a.networks[name].Check(wish.Addr) == nil {
				hint = "it is in network " + name + ": name that network in the row"
			}
		}
		a.bad("bad-address", wish.at, wish, err.Error(), hint)
		if hint == "" {
			a.offer(network)
		}
		return
	}
	at := netKey{network.Name, wish.Addr}
	if first, taken := a.cells[at]; taken {
		a.bad("duplicate-address", wish.at, wish, fmt.Sprintf("address %s is already in %s", wish.Addr, first), "each machine has its own")
		a.offer(network)
		return
	}
	a.cells[at] = wish.at
	h := address.Holder{Site: w.Site, Machine: w.Name, Adapter: i + 1}
	if other, ok := a.book.Claim(h, network.Name, wish.Addr); !ok {
		a.bad("address-in-use", wish.at, wish, fmt.Sprintf("address %s is %s", wish.Addr, other), inUseHint(other.Standing))
		a.offer(network)
		return
	}
	a.give(w, i, network, wish.Addr, "")
}

// draw takes the pooled addresses, once all literal ones are claimed.
func (a *assigner) draw(w *Wanted) {
	for i := range w.Adapters {
		for _, wish := range w.wishes[i] {
			network, ok := a.network(w, i+1)
			if wish.Kind != address.FromPool && wish.Kind != address.Leased || !ok {
				continue
			}
			pool, err := network.Pool(wish.Pool)
			if err != nil {
				a.bad("unknown-pool", wish.at, wish, err.Error(), "")
				continue
			}
			all, err := a.book.Draw(address.Holder{Site: w.Site, Machine: w.Name, Adapter: i + 1}, network, pool)
			a.count(network, pool, wish, w, err)
			for _, addr := range all {
				if wish.Kind == address.Leased {
					a.lease(w, i, network, addr, pool.Name, wish)
				} else {
					a.give(w, i, network, addr, pool.Name)
				}
			}
		}
	}
}

// lease gives an address by way of the network's DHCP server.
func (a *assigner) lease(w *Wanted, i int, network address.Network, addr netip.Addr, pool string, wish wish) {
	adapter := &w.Adapters[i]
	if !addr.Is4() || adapter.Lease.IsValid() {
		a.bad("bad-address", wish.at, wish, "a lease is kept for one IPv4 address of an adapter", "write pool for the others")
		return
	}
	adapter.DHCP, adapter.Lease = true, network.Prefix(addr)
	a.reserve(w, i, network, addr, pool)
}

// shortage is how many addresses a pool is asked for and cannot give.
type shortage struct {
	network       address.Network
	pool          address.Pool
	first         wish
	machine       string // the first that gets none
	wanted, lacks int
}

func (a *assigner) count(network address.Network, pool address.Pool, wish wish, w *Wanted, err error) {
	id := network.Name + "\x00" + pool.Name
	s := a.short[id]
	if s == nil {
		s = &shortage{network: network, pool: pool}
		a.short[id] = s
	}
	s.wanted++
	if err != nil {
		if s.lacks == 0 {
			s.first, s.machine = wish, w.Name
		}
		s.lacks++
	}
}

// tellShort tells of each pool that cannot give what is wanted of it.
func (a *assigner) tellShort() {
	for _, id := range slices.Sorted(maps.Keys(a.short)) {
		s := a.short[id]
		if s.lacks == 0 {
			continue
		}
		var why []string
		counts := address.Count(a.book.Of(s.network, s.pool))
		for _, standing := range []address.Standing{address.InUse, address.Reserved, address.Cooling, address.Held, address.Imported, address.Seen} {
			if n := counts[standing]; n > 0 {
				why = append(why, fmt.Sprintf("%d %s", n, standing))
			}
		}
		a.bad("pool-exhausted", s.first.at, s.first, fmt.Sprintf("pool %s of network %s has %d addresses (%s) and %d are wanted: none is left for %s", s.pool.Name, s.network.Name,
			s.pool.Size(), strings.Join(why, ", "), s.wanted, others(s.machine, s.lacks-1)), fmt.Sprintf("widen the pool in the setup by %d, or see `mintbatch pool show %s`", s.lacks, s.pool.Name))
	}
}

func others(machine string, more int) string {
	if more == 0 {
		return machine
	}
	return fmt.Sprintf("%s and %d more", machine, more)
}

// inUseHint says what can be done about an address that is not free.
func inUseHint(s address.Standing) string {
	switch s {
	case address.Held, address.Imported, address.Cooling:
		return "`mintbatch pool free` gives it back"
	case address.Seen:
		return "look at that machine, or name another address"
	}
	return "the ledger has reserved it"
}

func (a *assigner) give(w *Wanted, i int, network address.Network, addr netip.Addr, pool string) {
	adapter := &w.Adapters[i]
	adapter.Addresses = append(adapter.Addresses, network.Prefix(addr))
	a.reserve(w, i, network, addr, pool)
}

func (a *assigner) reserve(w *Wanted, i int, network address.Network, addr netip.Addr, pool string) {
	a.reserved = append(a.reserved, address.Reservation{
		Holder:  address.Holder{Site: w.Site, Machine: w.Name, Adapter: i + 1},
		Network: network.Name, Addr: addr, Pool: pool, Standing: address.InUse,
	})
}

// ways tells each adapter the way out and the DNS servers, as far as they are
// of a family that it has an address of. A machine has one way out for each
// family, that of its first adapter which has one: a second default route
// would be a matter of luck.
func (a *assigner) ways(w *Wanted) {
	out := map[bool]bool{} // whether IPv4, and IPv6, have their way out
	for i := range w.Adapters {
		adapter := &w.Adapters[i]
		network, _ := a.network(w, i+1)
		has := func(other netip.Addr) bool {
			return slices.ContainsFunc(adapter.Addresses, func(p netip.Prefix) bool { return p.Addr().Is4() == other.Is4() })
		}
		for _, g := range network.Gateways {
			if has(g) && !out[g.Is4()] {
				adapter.Gateways = append(adapter.Gateways, g)
				out[g.Is4()] = true
			}
		}
		for _, r := range network.Routes {
			if has(r.Via) {
				adapter.Routes = append(adapter.Routes, r)
			}
		}
		for _, d := range network.DNS {
			if has(d) {
				adapter.DNS = append(adapter.DNS, d)
			}
		}
		if len(adapter.Addresses) > 0 {
			adapter.Search = network.Search
		}
		if adapter.DHCP {
			out[true] = true
		}
		if adapter.DHCP6 || adapter.SLAAC {
			out[false] = true
		}
	}
}
