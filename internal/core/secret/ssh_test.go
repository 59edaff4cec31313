package secret

import (
	"crypto/rand"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A server with a key and certificate of ours is trusted by a client that
// knows the authority alone, by each of its names and by no other.
func TestHostCertificateInOpenSSH(t *testing.T) {
	for _, program := range []string{"ssh", "ssh-keygen", "/usr/sbin/sshd"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("skipped: %s is not installed", program)
		}
	}
	dir := t.TempDir()
	file := func(name, content string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
		return path
	}
	ca, err := NewHostKey(rand.Reader, "authority")
	require.NoError(t, err)
	authority, err := NewAuthority(ca.Private)
	require.NoError(t, err)
	key, err := NewHostKey(rand.Reader, "bms-sonar-01")
	require.NoError(t, err)
	certificate, err := authority.SignHost(rand.Reader, key, "quay/bms-sonar-01", []string{"bms-sonar-01", "bms-sonar-01.brackwater.example", "198.51.100.11"})
	require.NoError(t, err)
	out, err := exec.Command("ssh-keygen", "-L", "-f", file("host-cert.pub", certificate+"\n")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, part := range []string{"host certificate", `Key ID: "quay/bms-sonar-01"`, "Valid: forever", "bms-sonar-01.brackwater.example", "198.51.100.11"} {
		assert.Contains(t, string(out), part)
	}

	user, err := NewHostKey(rand.Reader, "user")
	require.NoError(t, err)
	file("authorized_keys", user.Public+"\n")
	file("known_hosts", "@cert-authority bms-*,198.51.100.* "+authority.Public()+"\n")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, _ := net.SplitHostPort(l.Addr().String())
	require.NoError(t, l.Close())
	server := exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", file("sshd_config", fmt.Sprintf("Port %s\nListenAddress 127.0.0.1\nHostKey %s\nHostCertificate %s\n"+
		"AuthorizedKeysFile %s\nStrictModes no\nUsePAM no\nPermitRootLogin yes\nPidFile none\n", port, file("host", key.Private), filepath.Join(dir, "host-cert.pub"), filepath.Join(dir, "authorized_keys"))))
	_ = os.MkdirAll("/run/sshd", 0o755)
	require.NoError(t, server.Start())
	defer func() { _ = server.Process.Kill(); _ = server.Wait() }()
	file("user", user.Private)
	come := func(name string) error {
		var err error
		for range 50 {
			var out []byte
			out, err = exec.Command("ssh", "-F", "none", "-p", port, "-i", filepath.Join(dir, "user"), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=yes",
				"-o", "GlobalKnownHostsFile=none", "-o", "UserKnownHostsFile="+filepath.Join(dir, "known_hosts"), "-o", "HostKeyAlias="+name, "127.0.0.1", "true").CombinedOutput()
			if err == nil || !strings.Contains(string(out), "Connection refused") {
				return err
			}
			time.Sleep(100 * time.Millisecond)
		}
		return err
	}
	assert.NoError(t, come("bms-sonar-01"))
	assert.NoError(t, come("198.51.100.11"))
	assert.Error(t, come("bms-sonar-02"), "the certificate is not of that name")
	_, err = NewAuthority("rubbish")
	assert.ErrorContains(t, err, "cannot be read")
}
