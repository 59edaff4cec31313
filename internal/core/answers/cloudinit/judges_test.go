package cloudinit

import (
	"crypto/rand"
	"io/fs"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
)

// judged writes the answers of a machine that has everything into a folder.
func judged(t *testing.T) (dir string) {
	t.Helper()
	if _, err := exec.LookPath("cloud-init"); err != nil {
		t.Skip("skipped: cloud-init is not installed")
	}
	dir = t.TempDir()
	key, err := secret.NewHostKey(rand.Reader, "bms-sonar-01")
	require.NoError(t, err)
	in := answers.Input{Instance: "i-1", Secrets: answers.Secrets{PasswordHash: "$6$x$y", HostKeyPrivate: key.Private, HostKeyPublic: key.Public}}
	in.Guest = machine.Guest{Hostname: "bms-sonar-01", Domain: "brackwater.example", Login: "survey", Password: machine.Generate,
		Keys: []string{key.Public}, Timezone: "Europe/Oslo", Locale: "nb_NO.UTF-8", Packages: []string{"chrony"}, Commands: hostile[:20]}
	in.Adapters = []machine.Adapter{
		{MAC: "02:00:00:00:00:01", Addresses: []netip.Prefix{netip.MustParsePrefix("198.51.100.7/24"), netip.MustParsePrefix("2001:db8:b0a7::7/64")},
			Gateways: []netip.Addr{netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("2001:db8:b0a7::1")},
			DNS:      []netip.Addr{netip.MustParseAddr("198.51.100.2"), netip.MustParseAddr("2001:db8:b0a7::2")}, Search: []string{"brackwater.example"}},
		{MAC: "02:00:00:00:00:02", DHCP: true},
	}
	for _, f := range Files(in) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, f.Name), f.Content, 0o600))
	}
	return dir
}

func TestCloudInitAcceptsTheUserData(t *testing.T) {
	dir := judged(t)
	out, err := exec.Command("cloud-init", "schema", "--config-file", filepath.Join(dir, "user-data")).CombinedOutput()
	assert.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "Valid cloud-config")
}

// Whichever way a guest sets up its network, nothing gets lost on the way.
func TestEveryRendererKeepsTheNetwork(t *testing.T) {
	dir := judged(t)
	for _, renderer := range []string{"netplan", "eni", "sysconfig", "networkd", "network-manager"} {
		out := filepath.Join(dir, renderer)
		distro := "debian"
		if renderer == "sysconfig" {
			distro = "rhel"
		}
		said, err := exec.Command("/usr/bin/python3", "-m", "cloudinit.cmd.main", "devel", "net-convert", "-k", "yaml",
			"-p", filepath.Join(dir, "network-config"), "-d", out, "-D", distro, "-O", renderer).CombinedOutput()
		require.NoError(t, err, "%s: %s", renderer, said)
		var all strings.Builder
		require.NoError(t, filepath.WalkDir(out, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			b, err := os.ReadFile(path)
			all.Write(b)
			return err
		}))
		text := strings.ToLower(all.String())
		for _, part := range []string{"198.51.100.7", "2001:db8:b0a7::7", "198.51.100.1", "2001:db8:b0a7::1", "198.51.100.2", "2001:db8:b0a7::2",
			"brackwater.example", "02:00:00:00:00:01", "02:00:00:00:00:02", "dhcp"} {
			if renderer == "network-manager" && part == "dhcp" {
				part = "method=auto"
			}
			assert.Contains(t, text, part, renderer)
		}
	}
}
