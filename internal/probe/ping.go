package probe

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
)

// family is what the two kinds of ICMP differ in.
type family struct {
	raw, plain, any string // networks to listen on, and the address
	protocol        int    // number of the protocol (IANA)
	request, reply  icmp.Type
}

var families = map[bool]family{
	true:  {"ip4:icmp", "udp4", "0.0.0.0", 1, ipv4.ICMPTypeEcho, ipv4.ICMPTypeEchoReply},
	false: {"ip6:ipv6-icmp", "udp6", "::", 58, ipv6.ICMPTypeEchoRequest, ipv6.ICMPTypeEchoReply},
}

// ping sends each address two echo requests and tells which answer.
func ping(ctx context.Context, all []netip.Addr, o Options) (map[netip.Addr]string, error) {
	found := map[netip.Addr]string{}
	var failures error
	for is4, f := range families {
		some := map[netip.Addr]bool{}
		for _, a := range all {
			if a.Is4() == is4 {
				some[a] = true
			}
		}
		if len(some) > 0 {
			failures = errors.Join(failures, f.echoes(ctx, some, o.Wait, found))
		}
	}
	return found, failures
}

func (f family) echoes(ctx context.Context, some map[netip.Addr]bool, wait time.Duration, found map[netip.Addr]string) error {
	// Where raw sockets are not allowed, many systems offer one for echoes only.
	raw := true
	c, err := icmp.ListenPacket(f.raw, f.any)
	if err != nil {
		raw = false
		if c, err = icmp.ListenPacket(f.plain, f.any); err != nil {
			return fmt.Errorf("no permission to send pings (%w); run mintbatch as an administrator", err)
		}
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { _ = c.Close() })()
	id := os.Getpid() & 0xffff
	for try := range 2 {
		m := icmp.Message{Type: f.request, Body: &icmp.Echo{ID: id, Seq: try, Data: []byte("mintbatch")}}
		packet, err := m.Marshal(nil)
		if err != nil {
			return err
		}
		for a := range some {
			if _, answered := found[a]; answered {
				continue
			}
			var to net.Addr = &net.UDPAddr{IP: a.AsSlice()}
			if raw {
				to = &net.IPAddr{IP: a.AsSlice()}
			}
			_, _ = c.WriteTo(packet, to) // one that cannot be reached does not answer
		}
		if err := f.gather(c, some, id, raw, time.Now().Add(wait/2), found); err != nil {
			return err
		}
	}
	return nil
}

// gather notes who answers until the time is up.
func (f family) gather(c *icmp.PacketConn, some map[netip.Addr]bool, id int, raw bool, until time.Time, found map[netip.Addr]string) error {
	if err := c.SetReadDeadline(until); err != nil {
		return err
	}
	buffer := make([]byte, 1500)
	for {
		n, from, err := c.ReadFrom(buffer)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			return nil
		} else if err != nil {
			return err
		}
		m, err := icmp.ParseMessage(f.protocol, buffer[:n])
		if err != nil || m.Type != f.reply {
			continue
		}
		if e, ok := m.Body.(*icmp.Echo); !ok || raw && e.ID != id { // the system gives others an id of its own
			continue
		}
		var ip net.IP
		switch a := from.(type) {
		case *net.UDPAddr:
			ip = a.IP
		case *net.IPAddr:
			ip = a.IP
		}
		if a, ok := netip.AddrFromSlice(ip); ok && some[a.Unmap()] {
			found[a.Unmap()] = "answers"
		}
	}
}
