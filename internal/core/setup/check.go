package setup

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
)

// SiteKinds lists the kinds of site that this program can talk to.
var SiteKinds = []string{"gateway"}

// check holds the values against each other once each is right by itself.
func (s *Setup) check(found *finding.List) {
	bad := func(message, hint string, path ...string) {
		at := s.Where(path...)
		for i := len(path) - 1; at.IsZero() && i >= 0; i-- {
			at = s.Where(path[:i]...)
		}
		found.Add(finding.Finding{Code: "bad-setup", At: at, Message: message, Hint: hint})
	}
	if s.Version != 1 {
		bad("`mintbatch: 1` is missing, or of a form that this program does not know", "write `mintbatch: 1` first", "mintbatch")
	}
	if len(s.Sites) == 0 {
		bad("no site is defined", "name at least one under `sites`", "sites")
	}
	for name, site := range sorted(s.Sites) {
		if err := machine.CheckLabel(name); err != nil {
			bad(fmt.Sprintf("site name %q: %s", name, err), "use letters, digits and hyphens", "sites", name)
		}
		if !slices.Contains(SiteKinds, site.Kind) {
			bad(fmt.Sprintf("site %s has the unknown kind %q", name, site.Kind), finding.DidYouMean(site.Kind, SiteKinds), "sites", name, "kind")
		}
		if !strings.HasPrefix(site.URL, "https://") {
			bad(fmt.Sprintf("site %s needs a url that begins with https://", name), "", "sites", name, "url")
		}
		if site.Machines < 0 {
			bad("machines must be 1 or more", "", "sites", name, "machines")
		}
	}
	for name, t := range sorted(s.Templates) {
		if t.Guest != "linux" {
			bad(fmt.Sprintf("template %s has the unknown guest %q", name, t.Guest), "write guest: linux", "templates", name, "guest")
		}
	}
	for name, n := range sorted(s.Networks) {
		for _, gateway := range n.Gateway {
			if !slices.ContainsFunc(n.Subnet, func(p netip.Prefix) bool { return p.Contains(gateway) }) {
				bad(fmt.Sprintf("gateway %s is not in a subnet of network %s", gateway, name), "", "networks", name, "gateway")
			}
		}
		oneEach(n.Subnet, func(p netip.Prefix) bool { return p.Addr().Is4() }, func() {
			bad(fmt.Sprintf("network %s has two subnets of one family", name), "make two networks of them", "networks", name, "subnet")
		})
		oneEach(n.Gateway, netip.Addr.Is4, func() {
			bad(fmt.Sprintf("network %s has two gateways of one family", name), "", "networks", name, "gateway")
		})
		for pool, p := range sorted(n.Pools) {
			if len(p.Ranges) == 0 {
				bad(fmt.Sprintf("pool %s has no ranges", pool), "", "networks", name, "pools", pool)
			}
			if _, err := address.NewPool(pool, s.bare(name), p.Ranges, p.Skip); err != nil {
				bad(fmt.Sprintf("pool %s: %s", pool, err), "", "networks", name, "pools", pool, "ranges")
			}
		}
	}
}

func oneEach[T any](all []T, is4 func(T) bool, bad func()) {
	seen := map[bool]bool{}
	for _, v := range all {
		if seen[is4(v)] {
			bad()
			return
		}
		seen[is4(v)] = true
	}
}

// sorted walks a map in the order of its keys, so that findings are told in
// the same order every time.
func sorted[V any](m map[string]V) func(yield func(string, V) bool) {
	return func(yield func(string, V) bool) {
		for _, k := range slices.Sorted(maps.Keys(m)) {
			if !yield(k, m[k]) {
				return
			}
		}
	}
}

func (s *Setup) bare(name string) address.Network {
	n := s.Networks[name]
	return address.Network{Name: name, Subnets: n.Subnet, Gateways: n.Gateway, DNS: n.DNS, Search: n.Search}
}

// AddressNetworks gives the networks and pools of a checked setup to the
// address computation.
func (s *Setup) AddressNetworks() map[string]address.Network {
	all := make(map[string]address.Network, len(s.Networks))
	for name := range s.Networks {
		n := s.bare(name)
		for pool, p := range sorted(s.Networks[name].Pools) {
			built, err := address.NewPool(pool, n, p.Ranges, p.Skip)
			if err != nil { // check has refused it
				continue
			}
			n.Pools = append(n.Pools, built)
		}
		all[name] = n
	}
	return all
}

// Names lists the names that a part of the setup defines, in order.
func Names[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
