package secret

import (
	"crypto/rand"
	"errors"
	"os"
	"os/exec"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mintbatch/internal/core/machine"
)

func TestPasswords(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range []struct {
		length  int
		classes []Class
		want    string
	}{
		{0, nil, `^[a-zA-Z2-9+=_.:%@-]{20}$`}, {12, []Class{"lower", "digit"}, `^[a-z2-9]{12}$`}, {40, []Class{"upper", "lower", "upper"}, `^[a-zA-Z]{40}$`},
	} {
		policy := Policy{c.length, c.classes}
		require.NoError(t, policy.Validate())
		for range 200 {
			p, err := policy.NewPassword(rand.Reader)
			require.NoError(t, err)
			assert.Regexp(t, c.want, p)
			assert.True(t, policy.complete(p), p)
			assert.False(t, strings.ContainsAny(p, "0Oo1lI"), p)
			assert.False(t, seen[p])
			seen[p] = true
		}
	}
	for _, c := range []struct {
		length  int
		classes []Class
	}{{11, nil}, {128, nil}, {0, []Class{"digit"}}} {
		assert.ErrorIs(t, Policy{c.length, c.classes}.Validate(), ErrPolicy)
	}
	_, err := Policy{}.NewPassword(iotest.ErrReader(errors.New("no entropy")))
	assert.ErrorContains(t, err, "no entropy")
}

// The guest's own crypt(3) must come to the same hash.
func TestHashIsWhatCryptMakes(t *testing.T) {
	for _, c := range []struct {
		how  machine.Hash
		want string
	}{
		{machine.Hash{}, `^\$6\$(rounds=5000\$)?[./0-9A-Za-z]{16}\$[./0-9A-Za-z]{86}$`},
		{machine.Hash{Rounds: 20000}, `^\$6\$rounds=20000\$[./0-9A-Za-z]{16}\$[./0-9A-Za-z]{86}$`},
		{machine.Hash{Method: "yescrypt"}, `^\$y\$j9T\$[./0-9A-Za-z]{16}\$[./0-9A-Za-z]{43}$`},
	} {
		hash, err := Hash(rand.Reader, c.how, "pass word:ü")
		require.NoError(t, err)
		require.Regexp(t, c.want, hash)
		perl, err := exec.LookPath("perl")
		if err != nil {
			t.Skip("skipped: perl is not installed")
		}
		out, err := exec.Command(perl, "-e", `print crypt($ARGV[0], $ARGV[1])`, "--", "pass word:ü", hash).Output()
		require.NoError(t, err)
		assert.Equal(t, hash, string(out))
	}
}

func TestSealing(t *testing.T) {
	file, recipient, err := NewIdentity()
	require.NoError(t, err)
	_, other, err := NewIdentity()
	require.NoError(t, err)
	var all Recipients
	require.NoError(t, all.AppendText(other))
	require.NoError(t, all.AppendText(recipient))
	sealed, err := all.Seal("s3cret")
	require.NoError(t, err)
	assert.NotContains(t, sealed, "s3cret")
	opened, err := Open(file, sealed)
	require.NoError(t, err)
	assert.Equal(t, "s3cret", opened)

	if program, err := exec.LookPath("age"); err == nil {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(dir+"/key", []byte(file), 0o600))
		decrypt := exec.Command(program, "-d", "-i", dir+"/key")
		decrypt.Stdin = strings.NewReader(sealed)
		out, err := decrypt.Output()
		require.NoError(t, err)
		assert.Equal(t, "s3cret", string(out))
	}

	stranger, _, err := NewIdentity()
	require.NoError(t, err)
	for _, c := range [][2]string{{stranger, sealed}, {"rubbish", sealed}, {file, sealed[:len(sealed)/2]}} {
		_, err = Open(c[0], c[1])
		assert.ErrorIs(t, err, ErrSealed)
	}
	assert.Error(t, all.AppendText("age1x"))
}

func TestHostKey(t *testing.T) {
	k, err := NewHostKey(rand.Reader, "bms-sonar-01")
	require.NoError(t, err)
	signer, err := ssh.ParsePrivateKey([]byte(k.Private))
	require.NoError(t, err)
	assert.Equal(t, k.Public, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))+" bms-sonar-01")
	assert.NoError(t, machine.CheckPublicKey(k.Public))
	assert.ErrorContains(t, machine.CheckPublicKey(k.Private), "private key")
	for _, bad := range []string{"", "# comment", "ssh-ed25519", "ssh-rsa AAAA", k.Public + "\n" + k.Public} {
		assert.ErrorIs(t, machine.CheckPublicKey(bad), machine.ErrPublicKey, bad)
	}
}
