// Package look asks the network about addresses before they are given out: does
// DNS have a name for one, does something answer at it already?
package look

import (
	"cmp"
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/address"
)

// Options say how to look.
type Options struct {
	Ways    []address.Way
	Servers []netip.AddrPort // of DNS
	Wait    time.Duration    // for an answer; 0 means a second
}

// Seen is what was seen of an address, by one way.
type Seen struct {
	Addr   netip.Addr  `json:"address"`
	Way    address.Way `json:"way"`
	Detail string      `json:"detail"` // its name, or the MAC address that has it
}

// atOnce bounds how many addresses are asked about at once: the neighbour tables
// of computers and routers are small.
const atOnce = 200

// At asks about addresses and returns what was seen, in their order. A way that
// cannot be gone is told in the error; the others are gone nonetheless.
func At(ctx context.Context, all []netip.Addr, o Options) ([]Seen, error) {
	o.Wait = cmp.Or(o.Wait, time.Second)
	var seen []Seen
	failed := map[string]bool{}
	for some := range slices.Chunk(all, atOnce) {
		for _, way := range o.Ways {
			ask := map[address.Way]func(context.Context, []netip.Addr, Options) (map[netip.Addr]string, error){address.InDNS: names, address.Echo: echoes, address.Neighbour: neighbours}[way]
			answers, err := ask(ctx, some, o)
			if err != nil {
				failed[string(way)+": "+err.Error()] = true
			}
			for addr, detail := range answers {
				seen = append(seen, Seen{addr, way, detail})
			}
		}
	}
	place := map[netip.Addr]int{}
	for i, a := range all {
		place[a] = i
	}
	slices.SortFunc(seen, func(a, b Seen) int {
		return cmp.Or(cmp.Compare(place[a.Addr], place[b.Addr]), cmp.Compare(slices.Index(address.Ways, a.Way), slices.Index(address.Ways, b.Way)))
	})
	if len(failed) > 0 {
		var words []string
		for word := range failed {
			words = append(words, word)
		}
		slices.Sort(words)
		return seen, errors.New(strings.Join(words, "; "))
	}
	return seen, ctx.Err()
}
