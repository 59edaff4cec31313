package machine

import (
	"fmt"
	"net/netip"
	"slices"
)

// Adapter is a network adapter: the card at its site, and the interface that the guest
// makes of it.
type Adapter struct {
	Card
	Interface
}

// Card is an adapter as its site has it.
type Card struct {
	Network   string `json:"network"`
	MAC       string `json:"mac"`
	VLAN      int    `json:"vlan,omitempty"`      // id, where the site's network takes one
	Model     string `json:"model,omitempty"`     // such as e1000e; empty keeps the template's
	Unplugged bool   `json:"unplugged,omitempty"` // the card is there, and its cable is not
	// Lease is the address that the network's DHCP server reserves for the card.
	Lease netip.Prefix `json:"lease,omitzero"`
}

// Interface is what the guest makes of an adapter.
type Interface struct {
	// Parent says how the adapter is reached, if it is no card of its own in the guest.
	Parent Parent `json:"parent,omitzero"`
	MTU    int    `json:"mtu,omitempty"`
	NoIPv6 bool   `json:"no_ipv6,omitempty"`
	// Later means that the adapter was added after the first boot, at which the guest
	// configures its adapters.
	Later bool `json:"later,omitempty"`
	Addressing
}

// Addressing is how an interface gets its addresses, and what comes with them.
type Addressing struct {
	DHCP      bool           `json:"dhcp,omitempty"`
	DHCP6     bool           `json:"dhcp6,omitempty"`
	SLAAC     bool           `json:"slaac,omitempty"` // addresses from router advertisements (RFC 4862)
	Addresses []netip.Prefix `json:"addresses,omitempty"`
	// Gateways are only those of the families that the interface has an address of.
	Gateways []netip.Addr `json:"gateways,omitempty"`
	DNS      []netip.Addr `json:"dns,omitempty"`
	Search   []string     `json:"search,omitempty"`
	Routes   []Route      `json:"routes,omitempty"`
}

// Unassigned is the adapter as a row names it, before it is assigned addresses.
func (a Adapter) Unassigned() Adapter {
	a.Lease, a.Addressing, a.Later = netip.Prefix{}, Addressing{}, false
	return a
}

// Given are the addresses that the adapter has by its row: its own, and the one that
// a DHCP server reserves for it.
func (a Adapter) Given() []netip.Prefix {
	if !a.Lease.IsValid() {
		return a.Addresses
	}
	return append(slices.Clone(a.Addresses), a.Lease)
}

// Words are those by which a row asks for addresses that the network assigns: dhcp,
// dhcp6 and slaac.
func (a Adapter) Words() []string {
	var words []string
	for _, w := range []struct {
		asked bool
		word  string
	}{{a.DHCP, "dhcp"}, {a.DHCP6, "dhcp6"}, {a.SLAAC, "slaac"}} {
		if w.asked {
			words = append(words, w.word)
		}
	}
	if a.Lease.IsValid() {
		words = append(words, a.Lease.Addr().String())
	}
	return words
}

// Route is a way to a network besides the default one.
type Route struct {
	To  netip.Prefix `json:"to" key:"to" doc:"the destination network"`
	Via netip.Addr   `json:"via" key:"via" doc:"the router"`
}

// Parent is another adapter that an adapter needs: it is a VLAN on that adapter, or
// its backup in a bond.
type Parent struct {
	Adapter int `json:"adapter"`        // counted from 1
	VLAN    int `json:"vlan,omitempty"` // 0 for a bond
}

// IsVLAN reports whether the adapter is a VLAN on its parent, and so has no card at the
// site.
func (p Parent) IsVLAN() bool { return p.VLAN > 0 }

// IsBond reports whether the adapter's card is the backup of its parent's.
func (p Parent) IsBond() bool { return p.Adapter > 0 && p.VLAN == 0 }

// String writes the parent as it stands in a cell.
func (p Parent) String() string {
	switch {
	case p.IsVLAN():
		return fmt.Sprintf("%d:%d", p.Adapter, p.VLAN)
	case p.IsBond():
		return fmt.Sprintf("bond:%d", p.Adapter)
	}
	return ""
}

// AtFirstBoot are the adapters that a guest had at its first boot. Others come after
// them.
func AtFirstBoot(all []Adapter) []Adapter {
	return slices.DeleteFunc(slices.Clone(all), func(a Adapter) bool { return a.Later })
}

// Cards are those of the adapters that have one at the site.
func Cards(all []Adapter) []Card {
	cards := make([]Card, 0, len(all))
	for _, a := range all {
		if !a.Parent.IsVLAN() {
			cards = append(cards, a.Card)
		}
	}
	return cards
}
