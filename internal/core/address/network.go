package address

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"mintbatch/internal/core/machine"
)

// Network is what machines are connected to, and which addresses of it the
// tool may give away.
type Network struct {
	Name    string
	Subnets []netip.Prefix
	// Gateways and DNS never go to a machine.
	Gateways []netip.Addr
	DNS      []netip.Addr
	Search   []string
	Routes   []machine.Route
	Pools    []Pool
}

// Pool is a named part of a network that the tool may hand out. Build it with
// NewPool; it is a value and does not remember who holds what.
type Pool struct {
	Name       string
	Allocation Allocation
	// Pair gives each machine the address of the other family, too, that has the
	// same host number.
	Pair   bool
	ranges []netipx.IPRange
}

// Allocation says which free address a machine gets that has none; empty is Lowest.
type Allocation string

// Words lists the choices.
func (Allocation) Words() []string { return []string{string(Lowest), string(Sticky), string(Hashed)} }

// The choices: the lowest; the lowest that no other machine had before, so that
// each can have its own again; or one that the machine's name decides.
const (
	Lowest Allocation = "lowest"
	Sticky Allocation = "sticky"
	Hashed Allocation = "hashed"
)

// Size is how many addresses the pool has, at most 1<<63.
func (p Pool) Size() uint64 {
	var n uint64
	for _, r := range p.ranges {
		if n += span(r); n >= 1<<63 {
			return 1 << 63
		}
	}
	return n
}

// span is how many addresses a range has, at most 1<<63.
func span(r netipx.IPRange) uint64 {
	from, to := r.From().As16(), r.To().As16()
	if !slices.Equal(from[:8], to[:8]) {
		return 1 << 63
	}
	return min(binary.BigEndian.Uint64(to[8:])-binary.BigEndian.Uint64(from[8:]), 1<<63-1) + 1
}

// at is the i-th address of the pool.
func (p Pool) at(i uint64) netip.Addr {
	for _, r := range p.ranges {
		n := span(r)
		if i < n {
			return plus(r.From(), i)
		}
		i -= n
	}
	return netip.Addr{}
}

func plus(a netip.Addr, n uint64) netip.Addr {
	b := a.As16()
	low := binary.BigEndian.Uint64(b[8:])
	binary.BigEndian.PutUint64(b[8:], low+n)
	if low+n < low {
		binary.BigEndian.PutUint64(b[:8], binary.BigEndian.Uint64(b[:8])+1)
	}
	sum := netip.AddrFrom16(b)
	if a.Is4() {
		return sum.Unmap()
	}
	return sum
}

// Overlaps reports an address that both pools hand out.
func (p Pool) Overlaps(other Pool) (netip.Addr, bool) {
	for _, a := range p.ranges {
		for _, b := range other.ranges {
			if a.Overlaps(b) {
				if a.From().Less(b.From()) {
					return b.From(), true
				}
				return a.From(), true
			}
		}
	}
	return netip.Addr{}, false
}

// Ranges lists the pool's ranges, those of what no machine may have left out.
func (p Pool) Ranges() []netipx.IPRange { return slices.Clone(p.ranges) }

// NewPool takes the ranges of a network without those to exclude. The addresses that
// no machine may have are left out by themselves.
func NewPool(name string, network Network, ranges, exclude []Range) (Pool, error) {
	var set netipx.IPSetBuilder
	for _, r := range ranges {
		if _, ok := network.subnetOf(r.From()); !ok || !network.contains(r.IPRange) {
			return Pool{}, fmt.Errorf("%s is not within the subnet %s", r, joined(network.Subnets))
		}
		set.AddRange(r.IPRange)
	}
	for _, r := range exclude {
		set.RemoveRange(r.IPRange)
	}
	for _, a := range append(append([]netip.Addr{}, network.Gateways...), network.DNS...) {
		set.Remove(a)
	}
	for _, p := range network.Subnets {
		for _, a := range edges(p) {
			set.Remove(a)
		}
	}
	built, err := set.IPSet()
	if err != nil {
		return Pool{}, err
	}
	return Pool{Name: name, ranges: built.Ranges()}, nil
}

// Range is a range of addresses, both ends included.
type Range struct{ netipx.IPRange }

// ParseRange reads `198.51.100.10-198.51.100.20`, a prefix or one address.
func ParseRange(s string) (Range, error) {
	if p, err := netip.ParsePrefix(s); err == nil {
		return Range{netipx.RangeOfPrefix(p.Masked())}, nil
	}
	if a, err := netip.ParseAddr(s); err == nil {
		return Range{netipx.IPRangeFrom(a, a)}, nil
	}
	r, err := netipx.ParseIPRange(strings.ReplaceAll(s, " ", ""))
	if err != nil {
		return Range{}, fmt.Errorf("%q is not a range; write 198.51.100.10-198.51.100.20", s)
	}
	return Range{r}, nil
}

// UnmarshalText reads what ParseRange reads.
func (r *Range) UnmarshalText(text []byte) (err error) {
	*r, err = ParseRange(string(text))
	return err
}

// Expects describes a range.
func (Range) Expects() string { return "a range of addresses such as 198.51.100.10-198.51.100.20" }

// contains reports whether the pool hands out the address.
func (p Pool) contains(a netip.Addr) bool {
	for _, r := range p.ranges {
		if r.Contains(a) {
			return true
		}
	}
	return false
}

// PoolOf names the pool that hands out the address; empty if none does.
func (n Network) PoolOf(a netip.Addr) string {
	for _, p := range n.Pools {
		if p.contains(a) {
			return p.Name
		}
	}
	return ""
}

// Pool finds a pool by name; the empty name means the only one there is.
func (n Network) Pool(name string) (Pool, error) {
	names := make([]string, len(n.Pools))
	for i, p := range n.Pools {
		if p.Name == name || name == "" && len(n.Pools) == 1 {
			return p, nil
		}
		names[i] = p.Name
	}
	switch {
	case len(names) == 0:
		return Pool{}, fmt.Errorf("network %s has no pool", n.Name)
	case name == "":
		return Pool{}, fmt.Errorf("network %s has several pools; write pool:%s", n.Name, strings.Join(names, " or pool:"))
	}
	return Pool{}, fmt.Errorf("network %s has no pool %q; it has %s", n.Name, name, strings.Join(names, ", "))
}

// Prefix gives the address the prefix length of its subnet.
func (n Network) Prefix(a netip.Addr) netip.Prefix {
	p, ok := n.subnetOf(a)
	if !ok {
		return netip.PrefixFrom(a, a.BitLen())
	}
	return netip.PrefixFrom(a, p.Bits())
}

// Isolated reports whether the network is known to have no way out for a family: it has
// a subnet of it and no gateway.
func (n Network) Isolated(is4 bool) bool {
	return slices.ContainsFunc(n.Subnets, func(p netip.Prefix) bool { return p.Addr().Is4() == is4 }) &&
		!slices.ContainsFunc(n.Gateways, func(g netip.Addr) bool { return g.Is4() == is4 })
}

// Check reports why a machine must not have the address; nil if it may.
func (n Network) Check(a netip.Addr) error {
	p, ok := n.subnetOf(a)
	if !ok {
		return fmt.Errorf("%s is not in network %s (%s)", a, n.Name, joined(n.Subnets))
	}
	for _, g := range n.Gateways {
		if a == g {
			return fmt.Errorf("%s is the gateway of network %s", a, n.Name)
		}
	}
	for _, d := range n.DNS {
		if a == d {
			return fmt.Errorf("%s is a DNS server of network %s", a, n.Name)
		}
	}
	for i, e := range edges(p) {
		if a == e {
			return fmt.Errorf("%s is the %s address of %s", a, [...]string{"network", "broadcast"}[i], p)
		}
	}
	return nil
}

// Partner is the address of the other family with the same host number, if a
// machine may have it.
func (n Network) Partner(a netip.Addr) (netip.Addr, bool) {
	own, ok := n.subnetOf(a)
	if !ok {
		return netip.Addr{}, false
	}
	base, addr := own.Masked().Addr().As16(), a.As16()
	number := binary.BigEndian.Uint64(addr[8:]) - binary.BigEndian.Uint64(base[8:])
	for _, p := range n.Subnets {
		if p.Addr().Is4() == a.Is4() {
			continue
		}
		other := plus(p.Masked().Addr(), number)
		return other, p.Contains(other) && n.Check(other) == nil
	}
	return netip.Addr{}, false
}

func (n Network) subnetOf(a netip.Addr) (netip.Prefix, bool) {
	for _, p := range n.Subnets {
		if p.Contains(a) {
			return p, true
		}
	}
	return netip.Prefix{}, false
}

func (n Network) contains(r netipx.IPRange) bool {
	p, ok := n.subnetOf(r.From())
	return ok && p.Contains(r.To())
}

// edges returns the addresses of a subnet that no machine can have: the
// network and broadcast address in IPv4 (except in a /31, RFC 3021), the
// subnet-router anycast address in IPv6 (RFC 4291, section 2.6.1).
func edges(p netip.Prefix) []netip.Addr {
	r := netipx.RangeOfPrefix(p)
	switch {
	case p.Bits() >= p.Addr().BitLen()-1:
		return nil
	case p.Addr().Is4():
		return []netip.Addr{r.From(), r.To()}
	default:
		return []netip.Addr{r.From()}
	}
}

func joined(ps []netip.Prefix) string {
	words := make([]string, len(ps))
	for i, p := range ps {
		words[i] = p.String()
	}
	return strings.Join(words, ", ")
}
