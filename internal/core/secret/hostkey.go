package secret

import (
	"crypto/ed25519"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"strings"

	"golang.org/x/crypto/ssh"
)

// HostKey is a guest's SSH host key, made before the guest exists.
type HostKey struct {
	Private string // OpenSSH PEM
	Public  string // `ssh-ed25519 AAAA...`
}

// NewHostKey makes an Ed25519 host key; the comment names the machine.
func NewHostKey(random io.Reader, comment string) (HostKey, error) {
	public, private, err := ed25519.GenerateKey(random)
	if err != nil {
		return HostKey{}, fmt.Errorf("make a host key: %w", err)
	}
	block, err := ssh.MarshalPrivateKey(private, comment)
	if err != nil {
		return HostKey{}, fmt.Errorf("make a host key: %w", err)
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		return HostKey{}, fmt.Errorf("make a host key: %w", err)
	}
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	return HostKey{Private: string(pem.EncodeToMemory(block)), Public: line + " " + comment}, nil
}

// ErrPublicKey is what every failure of CheckPublicKey unwraps to.
var ErrPublicKey = errors.New("not an SSH public key")

// CheckPublicKey accepts one line as it may stand in an authorized_keys file
// (sshd(8)). What was given is not repeated in the error: it may be a private
// key pasted by mistake.
func CheckPublicKey(line string) error {
	if strings.Contains(line, "PRIVATE KEY") {
		return fmt.Errorf("%w: this is a private key", ErrPublicKey)
	}
	_, _, _, rest, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil || len(rest) > 0 || strings.HasPrefix(line, "#") {
		return ErrPublicKey
	}
	return nil
}
