package probe

import (
	"context"
	"net"
	"net/netip"
	"time"

	"github.com/vishvananda/netlink"
)

// askARP lets the system find out who has each address, and reads what it
// has found. It finds out before it sends anything: a datagram to the discard
// port (RFC 863) is enough. Addresses behind a router are no neighbours.
func askARP(ctx context.Context, all []netip.Addr, o Options) (map[netip.Addr]string, error) {
	for _, a := range all {
		c, err := net.DialUDP("udp", nil, &net.UDPAddr{IP: a.AsSlice(), Port: 9})
		if err != nil {
			continue // there is no way to it
		}
		_, _ = c.Write([]byte{0})
		_ = c.Close()
	}
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-time.After(o.Wait):
	}
	asked := map[netip.Addr]bool{}
	for _, a := range all {
		asked[a] = true
	}
	table, err := netlink.NeighList(0, netlink.FAMILY_ALL)
	if err != nil {
		return nil, err
	}
	found := map[netip.Addr]string{}
	for _, n := range table {
		a, ok := netip.AddrFromSlice(n.IP)
		known := n.State&(netlink.NUD_REACHABLE|netlink.NUD_STALE|netlink.NUD_DELAY|netlink.NUD_PROBE) != 0
		if ok && asked[a.Unmap()] && known && len(n.HardwareAddr) > 0 {
			found[a.Unmap()] = n.HardwareAddr.String()
		}
	}
	return found, nil
}
