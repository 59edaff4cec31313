// Package assign gives the machines of a batch their MAC addresses and addresses.
package assign

import (
	"fmt"
	"iter"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
)

// Past is what is known from before: what the ledger has, and what was seen at
// the sites.
type Past struct {
	Ledger uuid.UUID
	Held   []address.Reservation
	// MACs are those of a machine that is known, by adapter from the first, and Owners whose each of them is; nil if none is known.
	MACs   func(machine.Key) []string
	Owners func() map[string]machine.Key
	// Foreign are those of machines that are not ours, and whose they are.
	Foreign map[string]string
	Now     time.Time
	// Named reports which machines a command is about; nil if it is about all.
	Named func(machine string) bool

	nameless bool // findings do not say which machines they affect
}

// Addresses gives every adapter its MAC address and its addresses. It returns
// what is to be reserved: first of all the literal addresses are claimed, then
// the pooled ones drawn in the order of the sheet, so that the same sheet and
// the same ledger always give the same addresses.
//
// Findings of machines that past.Named does not tell are not reported: such a machine
// gets nothing.
func Addresses(wanted []*batch.Wanted, s *setup.Setup, past Past) (iter.Seq[address.Reservation], finding.List) {
	a := &assigner{setup: s, networks: s.AddressNetworks(), found: finding.Collector{Nameless: past.nameless}, book: address.NewAllocator(past.Held, past.Now), past: past,
		cells: map[netKey]adapterOf{}, macs: make(map[string]adapterOf, len(wanted)), short: map[[2]string]*shortage{}}
	a.reserved = make([]reserved, 0, len(wanted))
	for _, w := range wanted {
		a.machine(w)
	}
	for _, w := range wanted {
		if !w.Misnamed {
			a.allocate(w)
			a.ways(w)
		}
	}
	a.addShortages()
	for _, m := range a.misplaced {
		if free := a.book.Free(m.network, 3); len(free) > 0 {
			a.found.Hint(m.finding, "free addresses: "+strings.Join(words(free), ", "))
		}
	}
	for _, w := range wanted {
		a.answers(w)
	}
	return reservations(a.reserved), a.found.List()
}

// answers reports why a machine's answers cannot be written in its guest's form, or which
// part of them not every guest reads.
func (a *assigner) answers(w *batch.Wanted) {
	m := w.Machine()
	kind := kinds.Of(m.Guest)
	if w.Misnamed || !kind.Reads() {
		return
	}
	if kind.Limits != nil {
		for i, what := range kind.Limits(w.Adapters) {
			a.addFinding(w, finding.Finding{Severity: finding.Warning, Code: "not-everywhere", At: addressAt(w, i), Message: what,
				Hint: "use a static address to keep the routes; the template's packages decide which program configures the network"}, what)
		}
		return
	}
	made, err := kinds.Write(answers.Hidden(*m, ""))
	if err == nil {
		err = made.Check()
	}
	if err != nil {
		o := w.Origin("template")
		a.addFinding(w, finding.Finding{Code: "bad-answers", At: o.At, Value: o.Value,
			Message: fmt.Sprintf("cannot write the answers of %s: %s", w.Name, err)}, err.Error())
	}
}

type netKey struct {
	network string
	addr    netip.Addr
}

type assigner struct {
	setup    *setup.Setup
	networks map[string]address.Network
	book     *address.Allocator
	cells    map[netKey]adapterOf // whose cells name an address
	macs     map[string]adapterOf
	past     Past
	owners   map[string]machine.Key  // of MAC addresses, those of the ledger
	short    map[[2]string]*shortage // by network and pool
	reserved []reserved
	found    finding.Collector
	// misplaced are findings whose hint tells free addresses, once all
	// claims are known.
	misplaced []misplaced
}

// adapterOf is an adapter, counted from 0, of a machine.
type adapterOf struct {
	machine *batch.Wanted
	adapter int
}

// reserved is an address that an adapter gets.
type reserved struct {
	adapterOf
	network, pool string
	addr          netip.Addr
}

// reservations are what the ledger writes of some addresses.
func reservations(all []reserved) iter.Seq[address.Reservation] {
	return func(yield func(address.Reservation) bool) {
		for _, r := range all {
			if !yield(address.Reservation{Holder: r.holder(), Network: r.network, Addr: r.addr, Pool: r.pool, Standing: address.InUse}) {
				return
			}
		}
	}
}

// holder is who the adapter is to the ledger.
func (a adapterOf) holder() address.Holder {
	return address.Holder{Site: a.machine.Site, Machine: a.machine.Name, Adapter: a.adapter + 1}
}

// addressAt is where an adapter's addresses stand.
func addressAt(w *batch.Wanted, adapter int) finding.Position {
	return w.Adapter("address", adapter).At
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

func (a *assigner) network(w *batch.Wanted, adapter int) (address.Network, bool) {
	name := w.Network(adapter - 1)
	if name == "" && adapter <= len(w.Adapters) { // kept as it is
		name = a.setup.NetworkOf(w.Adapters[adapter-1].Network)
	}
	n, ok := a.networks[name]
	return n, ok
}

// bad reports a finding that a machine has brought about. What makes it the same as
// that of another machine is the value, as it is written.
func (a *assigner) bad(w *batch.Wanted, code string, at finding.Position, value any, message, hint string) {
	what := fmt.Sprint(value)
	if wish, ok := value.(batch.Wish); ok {
		what = wish.Word
	}
	a.addFinding(w, finding.Finding{Code: code, At: at, Value: fmt.Sprint(value), Message: message, Hint: hint}, what)
}

// addFinding reports a finding, unless the command is about other machines.
func (a *assigner) addFinding(w *batch.Wanted, f finding.Finding, what string) {
	if a.past.Named == nil || a.past.Named(w.Name) {
		a.found.Add(f, what, w.Name)
	}
}

// offer adds free addresses to the hint of a finding, if one was reported since.
func (a *assigner) offer(told int, n address.Network) {
	if told < a.found.Len() {
		a.misplaced = append(a.misplaced, misplaced{told, n})
	}
}

// machine sets the MACs and claims the literal addresses.
func (a *assigner) machine(w *batch.Wanted) {
	if w.Misnamed {
		return
	}
	own := *w.Slim // what others may look at is not changed
	own.Adapters = slices.Clone(w.Adapters)
	w.Slim = &own
	for i := range w.Adapters {
		adapter := &w.Adapters[i]
		*adapter = adapter.Unassigned() // of whatever an earlier call has assigned
		if adapter.Parent.IsVLAN() {
			adapter.MAC = w.Adapters[adapter.Parent.Adapter-1].MAC
		}
		if adapter.MAC == "" {
			adapter.MAC = a.mac(w, i)
		}
		if first, taken := a.macs[adapter.MAC]; taken && !adapter.Parent.IsVLAN() {
			a.bad(w, "duplicate-mac", w.Adapter("mac", i).At, adapter.MAC, fmt.Sprintf("MAC address %s is already in %s", adapter.MAC, first.machine.Adapter("mac", first.adapter).At), "give each adapter its own, or leave the cell empty")
		}
		if whose, foreign := a.past.Foreign[adapter.MAC]; foreign && !adapter.Parent.IsVLAN() {
			a.bad(w, "duplicate-mac", w.Adapter("mac", i).At, adapter.MAC, fmt.Sprintf("MAC address %s belongs to %s", adapter.MAC, whose), "give each adapter its own, or leave the cell empty")
		}
		a.macs[adapter.MAC] = adapterOf{w, i}
		a.retainAddresses(w, i)
		for _, wish := range w.Wishes[i] {
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
func (a *assigner) mac(w *batch.Wanted, i int) string {
	prefix := a.setup.Sites[w.Site].MACs
	if a.past.MACs != nil {
		if had := a.past.MACs(w.Key); i < len(had) && strings.HasPrefix(had[i], prefix.String()) {
			return had[i]
		}
	}
	if a.owners == nil && a.past.Owners != nil {
		a.owners = a.past.Owners()
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
// bytes there are 65,536 in all; more adapters than that are a finding.
const mostTries = 1000

func (a *assigner) claim(w *batch.Wanted, i int, wish batch.Wish) {
	network, ok := a.network(w, i+1)
	if !ok {
		return // told where the network is named
	}
	err := network.Check(wish.Addr)
	if own := network.Prefix(wish.Addr).Bits(); err == nil && wish.Bits != 0 && wish.Bits != own {
		err = fmt.Errorf("network %s has the prefix length %d, not %d", network.Name, own, wish.Bits)
	}
	if err != nil {
		hint := ""
		for _, name := range a.setup.NetworksAt(wish.Addr) {
			if name != network.Name && a.networks[name].Check(wish.Addr) == nil {
				hint = "name network " + name + " in the row, which contains this address"
			}
		}
		told := a.found.Len()
		a.bad(w, "bad-address", addressAt(w, i), wish, err.Error(), hint)
		if hint == "" {
			a.offer(told, network)
		}
		return
	}
	if a.claimed(w, i, network, wish.Addr, wish) {
		a.setAddress(w, i, network, wish.Addr, "")
	}
}

// claimed takes an address for an adapter, or tells at its cell who has it.
func (a *assigner) claimed(w *batch.Wanted, i int, network address.Network, addr netip.Addr, value any) bool {
	at := addressAt(w, i)
	key := netKey{network.Name, addr}
	told := a.found.Len()
	if first, taken := a.cells[key]; taken {
		a.bad(w, "duplicate-address", at, value, fmt.Sprintf("address %s is already in %s", addr, addressAt(first.machine, first.adapter)), "give each machine its own")
		a.offer(told, network)
		return false
	}
	a.cells[key] = adapterOf{w, i}
	if other, ok := a.book.Assign(adapterOf{w, i}.holder(), network.Name, addr); !ok {
		a.bad(w, "address-in-use", at, value, fmt.Sprintf("address %s is %s", addr, other), inUseHint(other.Standing))
		a.offer(told, network)
		return false
	}
	return true
}

// allocate takes the pooled addresses, once all literal ones are claimed.
func (a *assigner) allocate(w *batch.Wanted) {
	for i := range w.Adapters {
		for _, wish := range w.Wishes[i] {
			network, ok := a.network(w, i+1)
			if wish.Kind != address.FromPool && wish.Kind != address.Leased || !ok {
				continue
			}
			pool, err := network.Pool(wish.Pool)
			if err != nil {
				a.bad(w, "unknown-pool", addressAt(w, i), wish, err.Error(), "")
				continue
			}
			all, err := a.book.Allocate(adapterOf{w, i}.holder(), network, pool)
			a.count(network, pool, wish, w, i, err)
			for _, addr := range all {
				if wish.Kind == address.Leased {
					a.lease(w, i, network, addr, pool.Name, wish)
				} else {
					a.setAddress(w, i, network, addr, pool.Name)
				}
			}
		}
	}
}

// lease gives an address by way of the network's DHCP server.
func (a *assigner) lease(w *batch.Wanted, i int, network address.Network, addr netip.Addr, pool string, wish batch.Wish) {
	adapter := &w.Adapters[i]
	if !addr.Is4() || adapter.Lease.IsValid() {
		a.bad(w, "bad-address", addressAt(w, i), wish, "an adapter has at most one DHCP reservation, for an IPv4 address", "write pool instead of dhcp:pool for the others")
		return
	}
	adapter.DHCP, adapter.Lease = true, network.Prefix(addr)
	a.reserve(w, i, network, addr, pool)
}

// shortage is how many addresses a pool is asked for and cannot give.
type shortage struct {
	network       address.Network
	pool          address.Pool
	first         batch.Wish
	by            *batch.Wanted // the first that gets none
	adapter       int           // that of the first, from 0
	wanted, lacks int
}

func (a *assigner) count(network address.Network, pool address.Pool, wish batch.Wish, w *batch.Wanted, i int, err error) {
	id := [2]string{network.Name, pool.Name}
	s := a.short[id]
	if s == nil {
		s = &shortage{network: network, pool: pool}
		a.short[id] = s
	}
	s.wanted++
	if err != nil {
		if s.lacks == 0 || a.past.Named != nil && !a.past.Named(s.by.Name) {
			s.first, s.by, s.adapter = wish, w, i
		}
		s.lacks++
	}
}

// addShortages reports each pool that cannot give what is wanted of it.
func (a *assigner) addShortages() {
	for _, id := range slices.SortedFunc(maps.Keys(a.short), func(a, b [2]string) int { return slices.Compare(a[:], b[:]) }) {
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
		a.bad(s.by, "pool-exhausted", addressAt(s.by, s.adapter), s.first, fmt.Sprintf("pool %s of network %s is exhausted: %d addresses (%s), %d needed; none left for %s", s.pool.Name, s.network.Name,
			s.pool.Size(), strings.Join(why, ", "), s.wanted, others(s.by.Name, s.lacks-1)), fmt.Sprintf("extend the pool in the setup by %d, or see `mintbatch pool show %s`", s.lacks, s.pool.Name))
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
		return "free it with `mintbatch pool free`"
	case address.Seen:
		return "check that machine, or name another address"
	}
	return "name another address: the ledger has reserved this one"
}

func (a *assigner) setAddress(w *batch.Wanted, i int, network address.Network, addr netip.Addr, pool string) {
	adapter := &w.Adapters[i]
	adapter.Addresses = append(adapter.Addresses, network.Prefix(addr))
	a.reserve(w, i, network, addr, pool)
}

func (a *assigner) reserve(w *batch.Wanted, i int, network address.Network, addr netip.Addr, pool string) {
	a.reserved = append(a.reserved, reserved{adapterOf{w, i}, network.Name, pool, addr})
}

// ways gives each adapter its gateways and DNS servers, as far as they are
// of a family that it has an address of. A machine has one way out for each
// family, that of its first adapter which has one: a second default route
// would be a matter of luck.
func (a *assigner) ways(w *batch.Wanted) {
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
			if has(r.Via) || r.Via.Is4() && adapter.DHCP || r.Via.Is6() && (adapter.DHCP6 || adapter.SLAAC) {
				adapter.Routes = append(adapter.Routes, r)
			}
		}
		adapter.DNS = network.DNS[:len(network.DNS):len(network.DNS)] // shared, unless some are left out
		if !all(network.DNS, has) {
			adapter.DNS = slices.DeleteFunc(slices.Clone(network.DNS), func(d netip.Addr) bool { return !has(d) })
		}
		if len(adapter.Addresses) > 0 {
			adapter.Search = network.Search
		}
		if adapter.DHCP && !network.Isolated(true) {
			out[true] = true
		}
		if (adapter.DHCP6 || adapter.SLAAC) && !network.Isolated(false) {
			out[false] = true
		}
	}
}

// retainAddresses claims what adapters keep as any address that a row names.
func (a *assigner) retainAddresses(w *batch.Wanted, i int) {
	has, ok := w.Inherited(i)
	if !ok {
		return
	}
	adapter := &w.Adapters[i]
	adapter.DHCP, adapter.DHCP6, adapter.SLAAC = has.DHCP, has.DHCP6, has.SLAAC
	network, known := a.network(w, i+1)
	for _, p := range has.Addresses {
		switch {
		case !known: // of a network that the setup no longer has
			adapter.Addresses = append(adapter.Addresses, p)
		case a.claimed(w, i, network, p.Addr(), p.Addr()):
			a.setAddress(w, i, network, p.Addr(), network.PoolOf(p.Addr()))
		}
	}
	switch p := has.Lease; {
	case !p.IsValid():
	case !known:
		adapter.Lease = p
	case a.claimed(w, i, network, p.Addr(), p.Addr()):
		adapter.Lease = network.Prefix(p.Addr())
		a.reserve(w, i, network, p.Addr(), network.PoolOf(p.Addr()))
	}
}

func all[T any](list []T, is func(T) bool) bool {
	return !slices.ContainsFunc(list, func(v T) bool { return !is(v) })
}
