package libvirt

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// reserveLeases lets the networks' DHCP servers keep the addresses that the
// adapters are to have, and none that the machine had of them before.
func (d *domain) reserveLeases(ctx context.Context, adapters []machine.Card) error {
	for _, a := range adapters {
		if strings.HasPrefix(a.Network, contract.BridgePrefix) {
			if a.Lease.IsValid() {
				return fmt.Errorf("%w: a bridge has no libvirt DHCP server that could reserve %s", site.ErrRefused, a.Lease.Addr())
			}
			continue
		}
		if err := d.reserveLease(ctx, d.dom.Name, a.Network, a.MAC, a.Lease.Addr()); err != nil {
			return err
		}
	}
	return nil
}

// dropLeases gives up whatever the networks keep for the machine's adapters.
func (d *domain) dropLeases(ctx context.Context, def *definition) error {
	for _, e := range def.devices().SelectElements("interface") {
		network, mac := attr(e, "./source", "network"), attr(e, "./mac", "address")
		if network == "" {
			continue
		}
		if err := d.reserveLease(ctx, d.dom.Name, network, mac, netip.Addr{}); err != nil && !errors.Is(err, site.ErrNotFound) {
			return err
		}
	}
	return nil
}

// reservation is what the DHCP servers of a host's networks have to do with adapters, by
// MAC address.
type reservation struct {
	addresses map[string][]string // given out, or kept, with prefix lengths
	kept      map[string]string   // kept both now and after the network's next start
}

// reservations reports what the DHCP servers of the host's networks have given out, and what
// they keep.
func (h *host) reservations(ctx context.Context) (reservation, error) {
	all := reservation{map[string][]string{}, map[string]string{}}
	add := func(mac, address string, bits uint32) {
		mac, text := strings.ToLower(mac), fmt.Sprintf("%s/%d", address, bits)
		if mac != "" && address != "" && !slices.Contains(all.addresses[mac], text) {
			all.addresses[mac] = append(all.addresses[mac], text)
		}
	}
	err := h.call(ctx, func(l daemon) error {
		nets, _, err := l.ConnectListAllNetworks(1, rpc.ConnectListNetworksActive)
		if err != nil {
			return err
		}
		for _, net := range nets {
			// A network without a DHCP server has none to report.
			leases, _, err := l.NetworkGetDhcpLeases(net, nil, 1, 0)
			for _, lease := range leases {
				if len(lease.Mac) > 0 && err == nil {
					add(lease.Mac[0], lease.Ipaddr, lease.Prefix)
				}
			}
			halves, err := halvesOf(l, net)
			if err != nil {
				return err
			}
			counts := map[[2]string]int{}
			for _, half := range halves {
				for _, host := range half.hosts() {
					mac, address := strings.ToLower(host.SelectAttrValue("mac", "")), host.SelectAttrValue("ip", "")
					add(mac, address, 32)
					counts[[2]string{mac, address}]++
				}
			}
			for entry, n := range counts {
				if n == len(halves) {
					all.kept[entry[0]] = entry[1]
				}
			}
		}
		return nil
	})
	return all, err
}

// ipRange is one of a network's two definitions: what it does now, or what it will do
// after its next start.
type ipRange struct {
	doc    *etree.Document
	affect rpc.NetworkUpdateFlags
}

func (h ipRange) hosts() []*etree.Element { return h.doc.FindElements("//dhcp/host") }

// halvesOf reads the definitions that a network has.
func halvesOf(l daemon, net rpc.Network) ([]ipRange, error) {
	active, err := l.NetworkIsActive(net)
	if err != nil {
		return nil, err
	}
	persistent, err := l.NetworkIsPersistent(net)
	if err != nil {
		return nil, err
	}
	var all []ipRange
	for _, of := range []struct {
		has    bool
		flags  uint32
		affect rpc.NetworkUpdateFlags
	}{{active != 0, 0, rpc.NetworkUpdateAffectLive}, {persistent != 0, uint32(rpc.NetworkXMLInactive), rpc.NetworkUpdateAffectConfig}} {
		if !of.has {
			continue
		}
		text, err := l.NetworkGetXMLDesc(net, of.flags)
		if err != nil {
			return nil, err
		}
		doc, err := parse(text, "network", "the network "+net.Name)
		if err != nil {
			return nil, err
		}
		all = append(all, ipRange{doc, of.affect})
	}
	return all, nil
}

// reportOf is what is known of a machine from outside: its MAC addresses, and
// the addresses that were given to them.
func (d *definition) reportOf(given reservation) *contract.Report {
	r := &contract.Report{Addresses: map[string][]string{}, Partial: "these addresses are from its networks"}
	for _, e := range d.devices().SelectElements("interface") {
		if mac := strings.ToLower(attr(e, "./mac", "address")); mac != "" {
			r.Addresses[mac] = given.addresses[mac]
		}
	}
	return r
}

// reserveLease makes what a network keeps for an adapter, now and after its next start,
// the one address that it asks for, or nothing. Entries of a MAC address under another
// machine's name are somebody else's.
func (h *host) reserveLease(ctx context.Context, machine, network, mac string, want netip.Addr) error {
	return h.call(ctx, func(l daemon) error {
		net, err := l.NetworkLookupByName(network)
		if err != nil {
			return err
		}
		halves, err := halvesOf(l, net)
		if err != nil {
			return err
		}
		for _, half := range halves {
			if err := addHostEntry(l, net, half, machine, mac, want); err != nil {
				return err
			}
		}
		return nil
	})
}

func addHostEntry(l daemon, net rpc.Network, h ipRange, machine, mac string, want netip.Addr) error {
	update := func(command rpc.NetworkUpdateCommand, host *etree.Element) error {
		return l.NetworkUpdateCompat(net, command, rpc.NetworkSectionIPDhcpHost, -1, elementText(host), h.affect)
	}
	has := false
	for _, host := range h.hosts() {
		if !strings.EqualFold(host.SelectAttrValue("mac", ""), mac) || host.SelectAttrValue("name", "") != machine {
			continue
		}
		if want.IsValid() && host.SelectAttrValue("ip", "") == want.String() {
			has = true
			continue
		}
		if err := update(rpc.NetworkUpdateCommandDelete, host); err != nil {
			return err
		}
	}
	if has || !want.IsValid() {
		return nil
	}
	host := etree.NewElement("host")
	host.CreateAttr("mac", mac)
	host.CreateAttr("name", machine)
	host.CreateAttr("ip", want.String())
	if err := update(rpc.NetworkUpdateCommandAddLast, host); err != nil {
		for _, other := range h.hosts() {
			if other.SelectAttrValue("ip", "") == want.String() || strings.EqualFold(other.SelectAttrValue("mac", ""), mac) || other.SelectAttrValue("name", "") == machine {
				return fmt.Errorf("%w: network %s cannot reserve %s for it: it conflicts with %s", site.ErrRefused, net.Name, want, elementText(other))
			}
		}
		return fmt.Errorf("%w: network %s cannot reserve %s for it: %w", site.ErrRefused, net.Name, want, err)
	}
	return nil
}

// DropLeases gives up what the networks of all hosts keep for a machine that is gone.
func (s *Site) DropLeases(ctx context.Context, name string, adapters []machine.Card) error {
	for _, a := range adapters {
		if !a.Lease.IsValid() || strings.HasPrefix(a.Network, contract.BridgePrefix) {
			continue
		}
		for _, h := range s.hosts {
			if err := h.reserveLease(ctx, name, a.Network, a.MAC, netip.Addr{}); err != nil && !errors.Is(err, site.ErrNotFound) {
				return err
			}
		}
	}
	return nil
}
