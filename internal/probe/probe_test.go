package probe

import (
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/address"
)

// inside is set where the test runs within the network namespace that it made.
const inside = "MINTBATCH_TEST_NAMESPACE"

// Two network namespaces, joined by a cable: in the one somebody has addresses
// and a DNS server that knows them, in the other we look. No packet leaves them.
func TestLook(t *testing.T) {
	if os.Getenv(inside) != "" {
		lookInside(t)
		return
	}
	if os.Getuid() != 0 || !available("ip") || !available("dnsmasq") {
		t.Skip("namespaces are made by root, with ip and dnsmasq")
	}
	ip(t, "netns add mb-office")
	t.Cleanup(func() { ip(t, "netns del mb-office") })
	ip(t, "netns add mb-others")
	t.Cleanup(func() { ip(t, "netns del mb-others") })
	ip(t, "-n mb-office link add mb0 type veth peer name mb1 netns mb-others")
	for _, line := range []string{
		"-n mb-office addr add 198.51.100.10/24 dev mb0", "-n mb-office addr add 2001:db8:b0a7::10/64 dev mb0 nodad", "-n mb-office link set mb0 up", "-n mb-office link set lo up",
		"-n mb-others addr add 198.51.100.2/24 dev mb1", "-n mb-others addr add 198.51.100.20/24 dev mb1", "-n mb-others addr add 2001:db8:b0a7::20/64 dev mb1 nodad",
		"-n mb-others link set mb1 address 52:54:00:00:00:20 up",
	} {
		ip(t, line)
	}
	dnsmasq := exec.Command("ip", "netns", "exec", "mb-others", "dnsmasq", "--keep-in-foreground", "--conf-file=/dev/null", "--no-resolv", "--no-hosts", "--user=root", "--local=/in-addr.arpa/", "--local=/ip6.arpa/",
		"--pid-file="+filepath.Join(t.TempDir(), "pid"), "--listen-address=198.51.100.2", "--bind-interfaces", "--host-record=old-node.brackwater.example,198.51.100.30,2001:db8:b0a7::30")
	require.NoError(t, dnsmasq.Start())
	t.Cleanup(func() { _ = dnsmasq.Process.Kill(); _ = dnsmasq.Wait() })
	self := exec.Command("ip", "netns", "exec", "mb-office", os.Args[0], "-test.run", "^TestLook$", "-test.v")
	self.Env = append(os.Environ(), inside+"=1")
	out, err := self.CombinedOutput()
	require.NoError(t, err, string(out))
}

func lookInside(t *testing.T) {
	var all []netip.Addr
	for _, a := range []string{"198.51.100.20", "198.51.100.21", "198.51.100.30", "2001:db8:b0a7::20", "2001:db8:b0a7::21", "2001:db8:b0a7::30", "203.0.113.5"} {
		all = append(all, netip.MustParseAddr(a))
	}
	server := netip.MustParseAddrPort("198.51.100.2:53")
	require.Eventually(t, func() bool {
		c, err := net.DialTimeout("tcp", server.String(), time.Second)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 10*time.Second, 50*time.Millisecond)
	seen, err := Addresses(t.Context(), all, Options{Probes: []address.Probe{address.DNS, address.Ping, address.ARP}, Servers: []netip.AddrPort{netip.MustParseAddrPort("198.51.100.2:54"), server}})
	require.NoError(t, err)
	var told []string
	for _, s := range seen {
		told = append(told, s.Addr.String()+" "+string(s.Probe)+" "+s.Detail)
	}
	assert.Equal(t, []string{
		"198.51.100.20 ping answers", "198.51.100.20 arp 52:54:00:00:00:20", "198.51.100.30 dns old-node.brackwater.example",
		"2001:db8:b0a7::20 ping answers", "2001:db8:b0a7::20 arp 52:54:00:00:00:20", "2001:db8:b0a7::30 dns old-node.brackwater.example",
	}, told)

	// Without the right to raw sockets, echoes go by the system's own kind.
	require.NoError(t, os.WriteFile("/proc/sys/net/ipv4/ping_group_range", []byte("0 2147483647"), 0o644))
	without := exec.Command("setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "--bounding-set=-all", os.Args[0], "-test.run", "^TestEchoWithoutRights$", "-test.v")
	without.Env = append(os.Environ(), "HOME=/tmp")
	out, err := without.CombinedOutput()
	assert.NoError(t, err, string(out))

	_, err = Addresses(t.Context(), all[:1], Options{Probes: []address.Probe{address.DNS}, Servers: []netip.AddrPort{netip.MustParseAddrPort("198.51.100.2:54")}, Wait: 100 * time.Millisecond})
	assert.ErrorContains(t, err, "dns: ")
}

// It is run by TestLook, as nobody.
func TestEchoWithoutRights(t *testing.T) {
	if os.Getenv(inside) == "" {
		return
	}
	require.NotZero(t, os.Getuid())
	seen, err := Addresses(t.Context(), []netip.Addr{netip.MustParseAddr("198.51.100.20"), netip.MustParseAddr("2001:db8:b0a7::20"), netip.MustParseAddr("198.51.100.21")}, Options{Probes: []address.Probe{address.Ping}})
	require.NoError(t, err)
	assert.Len(t, seen, 2)
}

func available(program string) bool {
	_, err := exec.LookPath(program)
	return err == nil
}

func ip(t *testing.T, line string) {
	t.Helper()
	out, err := exec.Command("ip", strings.Fields(line)...).CombinedOutput()
	require.NoError(t, err, "ip %s: %s", line, out)
}
