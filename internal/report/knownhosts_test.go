package report

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const oldKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGKW4uLuQ+V4Wl+yQkVGdAqGLyWSAJZZ977D8kOoSLso"

func TestKnownHosts(t *testing.T) {
	hosts := []Host{{[]string{"bms-sonar-01", "bms-sonar-01.brackwater.example", "198.51.100.11"}, oldKey + " bms-sonar-01"}, {[]string{"bms-sonar-02", "2001:db8::2"}, oldKey}}
	keep := "# mine\n\nother.example,203.0.113.9 ssh-rsa AAAA\n@revoked * ssh-rsa BBBB\n*.example ssh-rsa CCCC\nrubbish\n"
	old := keep + "BMS-sonar-01 ssh-rsa OLD\nfriend.example,198.51.100.11 ssh-rsa SHARED comment\n@cert-authority bms-sonar-02 ssh-rsa CA"
	want := keep + "friend.example ssh-rsa SHARED comment\n" +
		"bms-sonar-01,bms-sonar-01.brackwater.example,198.51.100.11 " + oldKey + "\nbms-sonar-02,2001:db8::2 " + oldKey + "\n"
	got := KnownHosts([]byte(old), hosts, "")
	assert.Equal(t, want, string(got))
	assert.Equal(t, want, string(KnownHosts(got, hosts, "")), "again: nothing changes")
	assert.Equal(t, "@cert-authority bms-sonar-01,bms-sonar-01.brackwater.example,198.51.100.11,bms-sonar-02,2001:db8::2 "+oldKey+"\n", string(KnownHosts(nil, hosts, oldKey+" authority")))
}

// Names that OpenSSH itself has hashed are found, and what is written is found
// by it.
func TestKnownHostsInOpenSSH(t *testing.T) {
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		t.Skip("skipped: ssh-keygen is not installed")
	}
	path := filepath.Join(t.TempDir(), "known_hosts")
	require.NoError(t, os.WriteFile(path, []byte("bms-sonar-01 "+oldKey+"\nfriend.example "+oldKey+"\n"), 0o600))
	out, err := exec.Command("ssh-keygen", "-H", "-f", path).CombinedOutput()
	require.NoError(t, err, "%s", out)
	hashed, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, 2, strings.Count(string(hashed), "|1|"))
	hosts := []Host{{[]string{"bms-sonar-01"}, oldKey}}
	got := KnownHosts(hashed, hosts, "")
	assert.Equal(t, 1, strings.Count(string(got), "|1|"))
	require.NoError(t, os.WriteFile(path, got, 0o600))
	for name, found := range map[string]bool{"bms-sonar-01": true, "friend.example": true, "bms-sonar-09": false} {
		assert.Equal(t, found, exec.Command("ssh-keygen", "-F", name, "-f", path).Run() == nil, name)
	}
}
