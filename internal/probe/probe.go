// Package probe asks the network whether addresses are in use: whether DNS has a
// name for one, and whether something answers at it.
package probe

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

// Options say how to probe.
type Options struct {
	Probes  []address.Probe
	Servers []netip.AddrPort // of DNS
	Wait    time.Duration    // for an answer; 0 means a second
}

// Answer is what one probe found of an address.
type Answer struct {
	Addr   netip.Addr    `json:"address"`
	Probe  address.Probe `json:"probe"`
	Detail string        `json:"detail"` // its name, or the MAC address that has it
}

// atOnce bounds how many addresses are asked about at once: the neighbour tables
// of computers and routers are small.
const atOnce = 200

// Addresses probes addresses and returns the answers, in their order. A probe that
// cannot be made is in the error; the others are made all the same.
func Addresses(ctx context.Context, all []netip.Addr, o Options) ([]Answer, error) {
	o.Wait = cmp.Or(o.Wait, time.Second)
	var seen []Answer
	failed := map[string]bool{}
	for some := range slices.Chunk(all, atOnce) {
		for _, probe := range o.Probes {
			ask := map[address.Probe]func(context.Context, []netip.Addr, Options) (map[netip.Addr]string, error){address.DNS: askDNS, address.Ping: ping, address.ARP: askARP}[probe]
			answers, err := ask(ctx, some, o)
			if err != nil {
				failed[string(probe)+": "+err.Error()] = true
			}
			for addr, detail := range answers {
				seen = append(seen, Answer{addr, probe, detail})
			}
		}
	}
	place := map[netip.Addr]int{}
	for i, a := range all {
		place[a] = i
	}
	slices.SortFunc(seen, func(a, b Answer) int {
		return cmp.Or(cmp.Compare(place[a.Addr], place[b.Addr]), cmp.Compare(slices.Index(o.Probes, a.Probe), slices.Index(o.Probes, b.Probe)))
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
