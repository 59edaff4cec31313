package zone

import (
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const hostKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGKW4uLuQ+V4Wl+yQkVGdAqGLyWSAJZZ977D8kOoSLso x"

var hosts = []Host{
	{Name: "bms-tide-02", Domain: "brackwater.example", Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.102")}},
	{Name: "bms-tide-01", Domain: "brackwater.example", Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.101"), netip.MustParseAddr("2001:db8:b0a7::101")}, Key: hostKey},
	{Name: "elsewhere", Domain: "other.example", Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.5")}},
	{Name: "bare", Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.6")}},
}

func TestHosts(t *testing.T) {
	old := "127.0.0.1 localhost # mintbatch begin of nothing"
	one, err := Hosts([]byte(old), hosts, "L")
	require.NoError(t, err)
	assert.Equal(t, old+`
# mintbatch begin L
203.0.113.6	bare
198.51.100.101	bms-tide-01.brackwater.example bms-tide-01
2001:db8:b0a7::101	bms-tide-01.brackwater.example bms-tide-01
198.51.100.102	bms-tide-02.brackwater.example bms-tide-02
203.0.113.5	elsewhere.other.example elsewhere
# mintbatch end L
`, string(one))
	again, err := Hosts(one, hosts, "L")
	require.NoError(t, err)
	assert.Equal(t, string(one), string(again), "the same again")
	two, err := Hosts(append(one, "203.0.113.7 mine\n"...), hosts[:1], "L")
	require.NoError(t, err)
	assert.Equal(t, old+"\n# mintbatch begin L\n198.51.100.102\tbms-tide-02.brackwater.example bms-tide-02\n# mintbatch end L\n203.0.113.7 mine\n", string(two))
	other, err := Hosts(two, hosts[:1], "M")
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(other), string(two)), "those of another ledger stay")
	_, err = Hosts([]byte("machine,site\nbms-tide-01,quay\n"), hosts, "L")
	assert.ErrorIs(t, err, ErrHosts)
	for _, broken := range []string{"# mintbatch begin L\n", "# mintbatch end L\n", "# mintbatch end L\n# mintbatch begin L\n", "# mintbatch begin L\n# mintbatch begin L\n# mintbatch end L\n"} {
		_, err := Hosts([]byte(broken), hosts, "L")
		assert.ErrorIs(t, err, ErrBlock, broken)
	}
}

const zoneFile = `$TTL 3600
@ IN SOA ns1.brackwater.example. hostmaster.brackwater.example. (
	2026112601 ; serial
	3600 900 604800 300 )
	IN NS ns1
ns1 IN A 198.51.100.2
www 300 IN CNAME ns1 ; by hand
`

// Every zone file that is written is one that BIND reads, and lines of others stay.
func TestZone(t *testing.T) {
	checked := func(text []byte) {
		t.Helper()
		if _, err := exec.LookPath("named-checkzone"); err != nil {
			t.Skip("there is no named-checkzone")
		}
		file := filepath.Join(t.TempDir(), "zone")
		require.NoError(t, os.WriteFile(file, text, 0o600))
		out, err := exec.Command("named-checkzone", "brackwater.example", file).CombinedOutput()
		assert.NoError(t, err, "%s\n%s", out, text)
	}
	text, n, err := Zone([]byte(zoneFile), "brackwater.example", hosts, "L")
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	assert.Equal(t, strings.Replace(zoneFile, "2026112601", "2026112602", 1)+`; mintbatch begin L
bms-tide-01.brackwater.example. IN A 198.51.100.101
bms-tide-01.brackwater.example. IN AAAA 2001:db8:b0a7::101
bms-tide-01.brackwater.example. IN SSHFP 4 2 `+strings.Fields(Fingerprint(hostKey))[2]+`
bms-tide-02.brackwater.example. IN A 198.51.100.102
; mintbatch end L
`, string(text))
	checked(text)
	again, _, err := Zone(text, "brackwater.example", hosts, "L")
	require.NoError(t, err)
	assert.Equal(t, string(text), string(again), "the serial stays where nothing has changed")
	fewer, n, err := Zone(text, "brackwater.example", hosts[1:], "L")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Contains(t, string(fewer), "2026112603 ; serial")
	assert.NotContains(t, string(fewer), "bms-tide-02")
	checked(fewer)

	var taken *Taken
	_, _, err = Zone([]byte(zoneFile+"BMS-tide-02 IN TXT \"by hand\"\n"), "brackwater.example", hosts, "L")
	require.ErrorAs(t, err, &taken)
	assert.Equal(t, []string{"bms-tide-02.brackwater.example"}, taken.Names)
	_, _, err = Zone([]byte("what is this?\n"), "brackwater.example", hosts, "L")
	assert.ErrorIs(t, err, ErrZone)
	_, _, err = Zone(nil, "", hosts, "L")
	assert.ErrorIs(t, err, ErrZone)
	part, n, err := Zone(nil, "brackwater.example", hosts, "L")
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	checked(append([]byte(zoneFile), part...))
}

// The fingerprint is that of OpenSSH.
func TestSSHFP(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key.pub")
	require.NoError(t, os.WriteFile(file, []byte(hostKey+"\n"), 0o600))
	out, err := exec.Command("ssh-keygen", "-r", "x", "-f", file).Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "x IN SSHFP "+Fingerprint(hostKey)+"\n")
	for _, other := range []string{"", "ssh-ed25519", "ssh-ed25519 %", "sk-other AAAA"} {
		assert.Empty(t, Fingerprint(other))
	}
}

func FuzzZone(f *testing.F) {
	f.Add([]byte(zoneFile))
	f.Add([]byte("; mintbatch begin L\n; mintbatch end L\n"))
	f.Fuzz(func(t *testing.T, old []byte) {
		text, _, err := Zone(old, "brackwater.example", hosts, "L")
		if err != nil {
			return
		}
		again, _, err := Zone(text, "brackwater.example", hosts, "L")
		require.NoError(t, err)
		assert.Equal(t, string(text), string(again))
	})
}
