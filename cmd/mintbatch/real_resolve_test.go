//go:build real

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/enrol/dnstest"
)

// The name of a guest resolves to its address and back, and the fingerprint beside it is that of the key which the guest presents.
func TestRealResolve(t *testing.T) {
	real, err := dnstest.BIND(t.TempDir())
	require.NoError(t, err)
	defer real.Stop()
	dir, _ := lab(t)
	t.Setenv("MINTBATCH_TEST_KEY", dnstest.Secret)
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "mintbatch.yaml", fmt.Sprintf("%s\ndns: {lab: {server: %q, key: {name: mint, secret: env:MINTBATCH_TEST_KEY}}}\n", setup, real.Address))
	write(t, dir, "machines.csv", "machine,preset,domain,address,enrol\nbms-tide-01,sonar-node,brackwater.example,198.51.100.11,lab\n")
	minted(t, dir)
	const name = "bms-tide-01.brackwater.example"
	resolved := func(args ...string) string {
		out, err := real.Dig(append(args, "+short", "+answer")...)
		require.NoError(t, err)
		return strings.ToLower(strings.TrimSpace(out))
	}
	assert.Equal(t, "198.51.100.11", resolved(name, "A"))
	assert.Equal(t, name+".", resolved("-x", "198.51.100.11"))
	presented, err := exec.Command(os.Getenv("MINTBATCH_REAL_INSIDE"), "ssh-keyscan", "-t", "ed25519", "198.51.100.11").Output()
	require.NoError(t, err)
	_, key, found := strings.Cut(strings.TrimSpace(string(presented)), " ")
	require.True(t, found, "%s", presented)
	write(t, dir, "presented.pub", key+"\n")
	prints, err := exec.Command("ssh-keygen", "-r", name+".", "-f", filepath.Join(dir, "presented.pub")).Output()
	require.NoError(t, err)
	entered := resolved(name, "SSHFP")
	require.True(t, strings.HasPrefix(entered, "4 2 "), entered)
	assert.Contains(t, string(prints), "IN SSHFP "+strings.ReplaceAll(entered[:4]+strings.ReplaceAll(entered[4:], " ", ""), "\n", ""))
	out, err := command(t, dir, "mintbatch", "verify")
	require.NoError(t, err, out)
	out, err = command(t, dir, "mintbatch", "retire", "--yes", "bms-tide-01")
	require.NoError(t, err, out)
	assert.Empty(t, resolved(name, "ANY")+resolved("-x", "198.51.100.11"))
}
