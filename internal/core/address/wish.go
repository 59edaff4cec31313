// Package address hands out the addresses of networks: literal ones as asked,
// pooled ones so that a machine keeps what it has and none is given twice.
package address

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// ErrWish is what every failure of ParseWish unwraps to.
var ErrWish = errors.New("not an address")

// Kind says how an adapter comes by an address.
type Kind string

// The kinds of a Wish.
const (
	DHCP     Kind = "dhcp"
	DHCP6    Kind = "dhcp6"
	SLAAC    Kind = "slaac"
	Literal  Kind = "literal"
	FromPool Kind = "pool"
	None     Kind = "none"
	// Leased is an address of a pool that the network's DHCP server keeps for
	// the machine.
	Leased Kind = "dhcp:pool"
)

// Wish is one word of an `address` cell: `dhcp` (IPv4), `dhcp6`, `slaac`, a
// literal address, `pool`, `pool:NAME`, `dhcp:pool`, `dhcp:pool:NAME` or `none`.
// It is a comparable value; its zero value is no wish.
type Wish struct {
	Kind Kind
	// Addr is the literal address, or the first of those counted up.
	Addr netip.Addr
	// Bits is the length of the prefix that was written behind the address, which is
	// the network's own then; 0 if none was.
	Bits int
	// Counts is set for `198.51.100.40+`: the n-th machine of a range gets
	// the n-th address from there.
	Counts bool
	// Pool names the pool; empty means the network's only one.
	Pool string
}

// ParseWish reads one word of an address cell. Zones are refused; a prefix length is
// noted, for the subnet is the network's.
func ParseWish(s string) (Wish, error) {
	if rest, ok := strings.CutPrefix(strings.ToLower(s), "dhcp:"); ok && (rest == "pool" || strings.HasPrefix(rest, "pool:") && len(rest) > len("pool:")) {
		_, pool, _ := strings.Cut(s[len("dhcp:"):], ":")
		return Wish{Kind: Leased, Pool: pool}, nil
	}
	word, pool, named := strings.Cut(s, ":")
	switch lower := strings.ToLower(word); {
	case slices.Contains([]Kind{DHCP, DHCP6, SLAAC, None}, Kind(lower)) && !named:
		return Wish{Kind: Kind(lower)}, nil
	case lower == "pool" && (!named || pool != ""):
		return Wish{Kind: FromPool, Pool: pool}, nil
	}
	text, counts := strings.CutSuffix(s, "+")
	bits := 0
	if p, err := netip.ParsePrefix(text); err == nil && p.Bits() > 0 {
		text, bits = p.Addr().String(), p.Bits()
	}
	a, err := netip.ParseAddr(text)
	if err != nil {
		return Wish{}, fmt.Errorf("%w: %q; write dhcp, dhcp6, slaac, pool, pool:NAME, dhcp:pool, none or an address such as 198.51.100.7", ErrWish, s)
	}
	if a.Zone() != "" || a.Is4In6() {
		return Wish{}, fmt.Errorf("%w: %q; write it without a zone, and an IPv4 address in its own notation", ErrWish, s)
	}
	return Wish{Kind: Literal, Addr: a, Bits: bits, Counts: counts}, nil
}

// Contradicts reports whether an adapter cannot have both: none is alone, and nothing is
// wished for twice.
func (w Wish) Contradicts(other Wish) bool {
	dhcp := func(k Kind) bool { return k == DHCP || k == Leased }
	return w == other || w.Kind == None || other.Kind == None || dhcp(w.Kind) && dhcp(other.Kind)
}

// At gives the i-th machine of a range its own wish. A counted address that
// would run past the end of all addresses is refused.
func (w Wish) At(i int) (Wish, error) {
	if !w.Counts {
		return w, nil
	}
	a, ok := add(w.Addr, i)
	if !ok {
		return Wish{}, fmt.Errorf("%w: %s counts beyond the last address", ErrWish, w)
	}
	return Wish{Kind: Literal, Addr: a, Bits: w.Bits}, nil
}

func add(a netip.Addr, n int) (netip.Addr, bool) {
	b := a.AsSlice()
	carry := n
	for i := len(b) - 1; i >= 0 && carry > 0; i-- {
		carry += int(b[i])
		b[i] = byte(carry)
		carry >>= 8
	}
	sum, _ := netip.AddrFromSlice(b)
	return sum, carry == 0
}

// String writes the wish as it stands in a cell.
func (w Wish) String() string {
	switch w.Kind {
	case Literal:
		text := w.Addr.String()
		if w.Bits > 0 {
			text = netip.PrefixFrom(w.Addr, w.Bits).String()
		}
		if w.Counts {
			text += "+"
		}
		return text
	case FromPool, Leased:
		if w.Pool != "" {
			return string(w.Kind) + ":" + w.Pool
		}
	}
	return string(w.Kind)
}
