package probe

import (
	"context"
	"encoding/binary"
	"net"
	"net/netip"
	"syscall"
	"time"
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
	table, err := neighbours()
	if err != nil {
		return nil, err
	}
	found := map[netip.Addr]string{}
	for _, n := range table {
		if asked[n.addr] && n.state&(reachable|stale|delay|probed) != 0 && len(n.mac) > 0 {
			found[n.addr] = n.mac.String()
		}
	}
	return found, nil
}

// neighbour is an entry of the system's table (rtnetlink(7), RTM_GETNEIGH).
type neighbour struct {
	addr  netip.Addr
	mac   net.HardwareAddr
	state uint16
}

// The states of an entry whose MAC address is known, and the attributes that have it
// and the address.
const (
	reachable, stale, delay, probed = 0x02, 0x04, 0x08, 0x10
	neighbourAddr, neighbourMAC     = 1, 2
)

// neighbours reads the system's table.
func neighbours() ([]neighbour, error) {
	answer, err := syscall.NetlinkRIB(syscall.RTM_GETNEIGH, syscall.AF_UNSPEC)
	if err != nil {
		return nil, err
	}
	messages, err := syscall.ParseNetlinkMessage(answer)
	if err != nil {
		return nil, err
	}
	var all []neighbour
	for _, m := range messages {
		if m.Header.Type == syscall.RTM_NEWNEIGH && len(m.Data) >= headSize {
			all = append(all, neighbourOf(m.Data))
		}
	}
	return all, nil
}

// headSize is that of a message's fixed part, in which the state is at 8.
const headSize = 12

func neighbourOf(message []byte) neighbour {
	n := neighbour{state: binary.NativeEndian.Uint16(message[8:])}
	for rest := message[headSize:]; len(rest) >= syscall.SizeofRtAttr; {
		size := int(binary.NativeEndian.Uint16(rest))
		if size < syscall.SizeofRtAttr || size > len(rest) {
			break
		}
		value := rest[syscall.SizeofRtAttr:size]
		switch binary.NativeEndian.Uint16(rest[2:]) {
		case neighbourAddr:
			a, _ := netip.AddrFromSlice(value)
			n.addr = a.Unmap()
		case neighbourMAC:
			n.mac = value
		}
		rest = rest[min(len(rest), (size+syscall.RTA_ALIGNTO-1)&^(syscall.RTA_ALIGNTO-1)):]
	}
	return n
}
