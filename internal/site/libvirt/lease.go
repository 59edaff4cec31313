package libvirt

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/site"
)

// keepLeases lets the networks' DHCP servers keep the addresses that the
// adapters are to have, and none that the machine had of them before.
func (d *domain) keepLeases(ctx context.Context, adapters []machine.Adapter) error {
	for _, a := range adapters {
		if strings.HasPrefix(a.Network, survey.BridgePrefix) {
			if a.Lease.IsValid() {
				return fmt.Errorf("%w: a bridge has no DHCP server of libvirt's that could keep %s", site.ErrRefused, a.Lease.Addr())
			}
			continue
		}
		if err := d.keepLease(ctx, a.Network, a.MAC, a); err != nil {
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
		if err := d.keepLease(ctx, network, mac, machine.Adapter{}); err != nil && !errors.Is(err, site.ErrNotFound) {
			return err
		}
	}
	return nil
}

// given tells, by MAC address, what the DHCP servers of the host's networks have
// given out, and what they keep.
func (h *host) given(ctx context.Context) (map[string][]string, error) {
	all := map[string][]string{}
	add := func(mac, address string, bits uint32) {
		mac, text := strings.ToLower(mac), fmt.Sprintf("%s/%d", address, bits)
		if mac != "" && address != "" && !slices.Contains(all[mac], text) {
			all[mac] = append(all[mac], text)
		}
	}
	err := h.call(ctx, func(l *rpc.Libvirt) error {
		nets, _, err := l.ConnectListAllNetworks(1, rpc.ConnectListNetworksActive)
		if err != nil {
			return err
		}
		for _, net := range nets {
			// A network without a DHCP server has none to tell of.
			leases, _, err := l.NetworkGetDhcpLeases(net, nil, 1, 0)
			for _, lease := range leases {
				if len(lease.Mac) > 0 && err == nil {
					add(lease.Mac[0], lease.Ipaddr, lease.Prefix)
				}
			}
			text, err := l.NetworkGetXMLDesc(net, 0)
			if err != nil {
				return err
			}
			doc, err := parse(text, "network", "the network "+net.Name)
			if err != nil {
				return err
			}
			for _, host := range doc.FindElements("//dhcp/host") {
				add(host.SelectAttrValue("mac", ""), host.SelectAttrValue("ip", ""), 32)
			}
		}
		return nil
	})
	return all, err
}

// reportOf is what is known of a machine from outside: its MAC addresses, and
// the addresses that were given to them.
func (d *definition) reportOf(given map[string][]string) *survey.Report {
	r := &survey.Report{Addresses: map[string][]string{}, Partial: "this is what its networks tell"}
	for _, e := range d.devices().SelectElements("interface") {
		if mac := strings.ToLower(attr(e, "./mac", "address")); mac != "" {
			r.Addresses[mac] = given[mac]
		}
	}
	return r
}

// keepLease makes what a network keeps for an adapter the one address that it
// asks for, or nothing. Entries of a MAC address under another machine's name
// are somebody else's.
func (d *domain) keepLease(ctx context.Context, network, mac string, want machine.Adapter) error {
	return d.call(ctx, func(l *rpc.Libvirt) error {
		net, err := l.NetworkLookupByName(network)
		if err != nil {
			return err
		}
		text, err := l.NetworkGetXMLDesc(net, 0)
		if err != nil {
			return err
		}
		doc, err := parse(text, "network", "the network "+network)
		if err != nil {
			return err
		}
		update := func(command rpc.NetworkUpdateCommand, host *etree.Element) error {
			return l.NetworkUpdateCompat(net, command, rpc.NetworkSectionIPDhcpHost, -1, elementText(host), rpc.NetworkUpdateAffectLive|rpc.NetworkUpdateAffectConfig)
		}
		for _, host := range doc.FindElements("//dhcp/host") {
			if !strings.EqualFold(host.SelectAttrValue("mac", ""), mac) || host.SelectAttrValue("name", "") != d.dom.Name {
				continue
			}
			if want.Lease.IsValid() && host.SelectAttrValue("ip", "") == want.Lease.Addr().String() {
				return nil
			}
			if err := update(rpc.NetworkUpdateCommandDelete, host); err != nil {
				return err
			}
		}
		if !want.Lease.IsValid() {
			return nil
		}
		host := etree.NewElement("host")
		host.CreateAttr("mac", mac)
		host.CreateAttr("name", d.dom.Name)
		host.CreateAttr("ip", want.Lease.Addr().String())
		if err := update(rpc.NetworkUpdateCommandAddLast, host); err != nil {
			return fmt.Errorf("%w: network %s does not keep %s for it: %w", site.ErrRefused, network, want.Lease.Addr(), err)
		}
		return nil
	})
}
