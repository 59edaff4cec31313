package cloudinit

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
)

// link is an adapter as the guest is to have it, or a card of a bond.
type link struct {
	name string
	machine.Adapter
	cards    []string // of a bond
	on       string   // what a tagged network rides on
	bare     bool     // a card that has no addresses of its own
	metric   int      // of the way out by DHCP, where another is preferred
	optional bool     // a boot does not wait for it
}

// links turns adapters into what the guest makes of them. A card is found by
// its MAC address and given a name, since what a kernel calls it cannot be known.
func links(adapters []machine.Adapter, wait machine.NetworkWait) []link {
	var all []link
	for i, a := range adapters {
		l := link{name: fmt.Sprintf("adapter%d", i+1), Adapter: a, optional: wait == machine.WaitNone || wait == machine.WaitFirst && i > 0}
		if i > 0 { // the first adapter's way out is preferred
			l.metric = 100 * (i + 1)
		}
		card := link{name: fmt.Sprintf("card%d", i+1), Adapter: machine.Adapter{Card: machine.Card{MAC: a.MAC}}, bare: true}
		second := slices.IndexFunc(adapters, func(b machine.Adapter) bool { return b.Parent.IsBond() && b.Parent.Adapter == i+1 })
		switch {
		case a.Parent.IsVLAN():
			l.on = fmt.Sprintf("adapter%d", a.Parent.Adapter)
		case a.Parent.IsBond():
			all = append(all, card)
			continue
		case second >= 0:
			l.cards = []string{card.name, fmt.Sprintf("card%d", second+1)}
			all = append(all, card)
		}
		all = append(all, l)
	}
	return all
}

// onlyStatic reports whether all addresses of a link were named: it is to take no
// other that its network's router reports (RFC 4862).
func (l link) onlyStatic() bool { return len(l.Addresses) > 0 && !l.DHCP && !l.DHCP6 && !l.SLAAC }

// networkConfig writes version 2, which knows all but two things: with it, some
// of cloud-init's renderers forget router advertisements beside other
// addresses, and lay routes into the wrong family. Where those are asked for it
// is version 1, which in turn knows neither what a boot waits for nor, in
// netplan, which way out by DHCP is preferred.
func networkConfig(in []machine.Adapter, wait machine.NetworkWait) []byte {
	all := links(in, wait)
	if needsVersion1(all) {
		return version1(all)
	}
	return version2(all)
}

// needsVersion1 reports whether version 2 would lose something: it has routes at the
// first way alone by which an adapter comes by an address.
func needsVersion1(all []link) bool {
	return slices.ContainsFunc(all, func(l link) bool {
		first4 := l.DHCP || !l.DHCP6 && len(l.Addresses) > 0 && l.Addresses[0].Addr().Is4()
		return l.SLAAC || slices.ContainsFunc(l.Routes, func(r machine.Route) bool { return r.Via.Is4() != first4 })
	})
}

// Lost reports what does not arrive at the guest in every renderer of cloud-init, by
// adapter.
func Lost(in []machine.Adapter) map[int]string {
	lost := map[int]string{}
	all := links(in, "")
	one := needsVersion1(all)
	for i, a := range in {
		for _, l := range all {
			if l.name != fmt.Sprintf("adapter%d", i+1) {
				continue
			}
			static := func(is4 bool) bool {
				return slices.ContainsFunc(l.Addresses, func(p netip.Prefix) bool { return p.Addr().Is4() == is4 })
			}
			if one && slices.ContainsFunc(a.Routes, func(r machine.Route) bool { return !static(r.Via.Is4()) }) {
				lost[i] = "a guest whose network is configured by netplan does not get the routes of its network together with this kind of address"
			}
			if l.cards != nil && l.MTU > 0 {
				lost[i] = "a guest whose network is configured by NetworkManager does not get the MTU of a bond"
			}
		}
	}
	return lost
}

func version2(all []link) []byte {
	var ethernets, bonds, vlans mapping
	for _, l := range all {
		var e mapping
		switch {
		case l.on != "":
			e.add("id", l.Parent.VLAN)
			e.add("link", l.on)
		case l.cards != nil:
			e.add("interfaces", l.cards)
			e.add("macaddress", strings.ToLower(l.MAC))
			e.add("parameters", mapping{{"mode", "active-backup"}, {"mii-monitor-interval", 100}})
		default:
			e.add("match", mapping{{"macaddress", strings.ToLower(l.MAC)}})
			e.add("set-name", l.name)
		}
		e.add("dhcp4", l.DHCP)
		e.add("dhcp6", l.DHCP6)
		if l.DHCP {
			// A clone of a template that left its machine id behind would else have the
			// lease of every other.
			e.add("dhcp-identifier", "mac")
		}
		if l.onlyStatic() {
			e.add("accept-ra", false)
		}
		if l.DHCP && l.metric > 0 {
			e.add("dhcp4-overrides", mapping{{"route-metric", l.metric}})
		}
		if l.MTU > 0 {
			e.add("mtu", l.MTU)
		}
		if l.optional {
			e.add("optional", true)
		}
		e.add("addresses", answers.Words(l.Addresses))
		var routes []mapping
		for _, r := range l.Routes {
			routes = append(routes, mapping{{"to", r.To.String()}, {"via", r.Via.String()}})
		}
		e.add("routes", routes)
		// A route to ::/0 would be clearer, but cloud-init 22.4 makes ::/64 of it.
		for _, g := range l.Gateways {
			if g.Is4() {
				e.add("gateway4", g.String())
			} else {
				e.add("gateway6", g.String())
			}
		}
		var names mapping
		names.add("addresses", answers.Words(l.DNS))
		names.add("search", l.Search)
		e.add("nameservers", names)
		switch {
		case l.on != "":
			vlans.add(l.name, e)
		case l.cards != nil:
			bonds.add(l.name, e)
		default:
			ethernets.add(l.name, e)
		}
	}
	m := mapping{{"version", 2}}
	m.add("ethernets", ethernets)
	m.add("bonds", bonds)
	m.add("vlans", vlans)
	return m.encode()
}

func version1(all []link) []byte {
	var config []mapping
	for _, l := range all {
		var e mapping
		switch {
		case l.on != "":
			e = mapping{{"type", "vlan"}, {"name", l.name}, {"vlan_link", l.on}, {"vlan_id", l.Parent.VLAN}}
		case l.cards != nil:
			e = mapping{{"type", "bond"}, {"name", l.name}, {"mac_address", strings.ToLower(l.MAC)}, {"bond_interfaces", l.cards},
				{"params", mapping{{"bond-mode", "active-backup"}, {"bond-miimon", 100}}}}
		default:
			e = mapping{{"type", "physical"}, {"name", l.name}, {"mac_address", strings.ToLower(l.MAC)}}
		}
		if l.MTU > 0 {
			e.add("mtu", l.MTU)
		}
		if l.SLAAC || l.onlyStatic() {
			e.add("accept-ra", l.SLAAC)
		}
		e.add("subnets", subnets(l))
		config = append(config, e)
	}
	m := mapping{{"version", 1}}
	m.add("config", config)
	return m.encode()
}

// routes are those of one family, in the manner of version 1.
func (l link) routes(is4 bool) []mapping {
	var all []mapping
	for _, r := range l.Routes {
		if r.Via.Is4() == is4 {
			all = append(all, mapping{{"network", r.To.String()}, {"gateway", r.Via.String()}})
		}
	}
	return all
}

// subnets is the addresses of a link, in the manner of version 1: each with the
// gateway and routes of its family, and the first with all DNS servers.
func subnets(l link) []mapping {
	var all []mapping
	told := map[bool]bool{}
	for _, p := range l.Addresses {
		is4 := p.Addr().Is4()
		s := mapping{{"type", "static"}, {"address", p.String()}}
		if !told[is4] {
			ours := func(a netip.Addr) bool { return a.Is4() == is4 }
			if i := slices.IndexFunc(l.Gateways, ours); i >= 0 {
				s.add("gateway", l.Gateways[i].String())
			}
			if len(told) == 0 { // some renderers keep the servers of one alone
				s.add("dns_nameservers", answers.Words(l.DNS))
				s.add("dns_search", l.Search)
			}
			s.add("routes", l.routes(is4))
		}
		told[is4] = true
		all = append(all, s)
	}
	for _, way := range []struct {
		asked bool
		kind  string
	}{{l.DHCP, "dhcp4"}, {l.DHCP6, "dhcp6"}, {l.SLAAC && !l.DHCP6, "ipv6_slaac"}} {
		if !way.asked {
			continue
		}
		s := mapping{{"type", way.kind}}
		if l.DHCP && way.kind == "dhcp4" && l.metric > 0 {
			s.add("metric", l.metric)
		}
		if is4 := way.kind == "dhcp4"; !told[is4] {
			s.add("routes", l.routes(is4))
			told[is4] = true
		}
		all = append(all, s)
	}
	return all
}
