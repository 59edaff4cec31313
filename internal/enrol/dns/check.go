package dns

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"
	"golang.org/x/sync/errgroup"

	"mintbatch/internal/core/entry"
)

// authority is a server that the zone names.
type authority struct {
	name string
	at   netip.AddrPort
}

// Check implements enrol.Checker: it asks all servers that a zone names, at the port of the primary.
func (s *Server) Check(ctx context.Context, items []entry.Item) ([][]string, error) {
	found := make([][]string, len(items))
	places := make([]place, len(items))
	zones := map[string][]authority{}
	for i, item := range items {
		at, err := s.find(ctx, item.Name)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", item.Name, err)
		}
		places[i] = at
		if _, asked := zones[at.zone]; !asked {
			if zones[at.zone], err = s.authorities(ctx, at.zone); err != nil {
				return nil, err
			}
		}
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(mostLinks)
	for i, item := range items {
		group.Go(func() error {
			for _, server := range zones[places[i].zone] {
				found[i] = append(found[i], server.lacks(ctx, item, places[i].owner)...)
			}
			return ctx.Err()
		})
	}
	return found, group.Wait()
}

// authorities are the servers that a zone names, but for the primary itself, as far as it knows their addresses.
func (s *Server) authorities(ctx context.Context, zone string) (all []authority, err error) {
	records, _, err := s.query(ctx, zone, dns.TypeNS)
	if err != nil {
		return nil, err
	}
	for _, rr := range records {
		ns, is := rr.(*dns.NS)
		if !is {
			continue
		}
		for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
			addresses, _, err := s.query(ctx, dns.CanonicalName(ns.Ns), kind)
			if err != nil {
				break // it knows nothing of that name
			}
			for _, v := range values(addresses, dns.CanonicalName(ns.Ns)) {
				_, text, _ := strings.Cut(v, " ")
				if a, err := netip.ParseAddr(text); err == nil && a != s.Server.Addr() {
					all = append(all, authority{plain(ns.Ns), netip.AddrPortFrom(a, s.Server.Port())})
				}
			}
		}
	}
	return all, nil
}

// lacks says what a server does not have of an item.
func (a authority) lacks(ctx context.Context, item entry.Item, owner string) (all []string) {
	has := []string{}
	for _, kind := range kinds(owner) {
		reply, err := askOnce(ctx, a.at, new(dns.Msg).SetQuestion(owner, kind))
		if err != nil {
			return []string{fmt.Sprintf("%s (%s) does not answer", a.name, a.at.Addr())}
		}
		has = append(has, values(reply.Answer, owner)...)
	}
	for _, v := range item.Values {
		if !slices.Contains(has, v) {
			all = append(all, fmt.Sprintf("%s (%s) has no %s", a.name, a.at.Addr(), v))
		}
	}
	slices.Sort(has)
	for _, v := range slices.Compact(has) {
		if !slices.Contains(item.Values, v) {
			all = append(all, fmt.Sprintf("%s (%s) has %s", a.name, a.at.Addr(), v))
		}
	}
	return all
}
