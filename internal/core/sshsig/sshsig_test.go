package sshsig

import (
	"bytes"
	"crypto/rand"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

func run(t *testing.T, stdin []byte, args ...string) {
	t.Helper()
	c := exec.Command("ssh-keygen", args...)
	c.Stdin = bytes.NewReader(stdin)
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// Signatures are what OpenSSH verifies, and those of OpenSSH are verified.
func TestAsOpenSSH(t *testing.T) {
	message := []byte("a manifest\n")
	for _, kind := range []string{"ed25519", "ecdsa", "rsa"} {
		t.Run(kind, func(t *testing.T) {
			dir := t.TempDir()
			at := func(name string) string { return filepath.Join(dir, name) }
			run(t, nil, "-q", "-t", kind, "-N", "", "-f", at("key"))
			text, err := os.ReadFile(at("key"))
			require.NoError(t, err)
			key, err := ssh.ParsePrivateKey(text)
			require.NoError(t, err)

			signature, err := Sign(rand.Reader, key, "template", message)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(at("sig"), signature, 0o600))
			require.NoError(t, os.WriteFile(at("allowed"), append([]byte("anna "), ssh.MarshalAuthorizedKey(key.PublicKey())...), 0o600))
			run(t, message, "-Y", "verify", "-f", at("allowed"), "-I", "anna", "-n", "template", "-s", at("sig"))

			require.NoError(t, os.WriteFile(at("message"), message, 0o600))
			run(t, nil, "-Y", "sign", "-f", at("key"), "-n", "template", at("message"))
			theirs, err := os.ReadFile(at("message.sig"))
			require.NoError(t, err)
			by, err := Verify("template", message, theirs)
			require.NoError(t, err)
			assert.Equal(t, key.PublicKey().Marshal(), by.Marshal())

			_, err = Verify("other", message, signature)
			assert.ErrorIs(t, err, ErrSignature)
			_, err = Verify("template", []byte("another manifest\n"), signature)
			assert.ErrorIs(t, err, ErrSignature)
			damaged := bytes.Replace(signature, []byte("A"), []byte("B"), 1)
			_, err = Verify("template", message, damaged)
			assert.ErrorIs(t, err, ErrSignature)
		})
	}
}

func FuzzVerify(f *testing.F) {
	f.Add([]byte("-----BEGIN SSH SIGNATURE-----\nU1NIU0lHAAAAAQ==\n-----END SSH SIGNATURE-----\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		_, err := Verify("template", []byte("m"), b)
		assert.ErrorIs(t, err, ErrSignature)
	})
}
