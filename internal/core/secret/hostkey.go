package secret

import (
	"crypto/ed25519"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"io"
	"slices"
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

// ReadHostKey reads a host key that was made earlier.
func ReadHostKey(private, comment string) (HostKey, error) {
	signer, err := ssh.ParsePrivateKey([]byte(private))
	if err != nil {
		return HostKey{}, fmt.Errorf("the stored host key cannot be read: %w", err)
	}
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))
	return HostKey{Private: private, Public: line + " " + comment}, nil
}

// Authority is an SSH certificate authority (PROTOCOL.certkeys of OpenSSH).
type Authority struct{ signer ssh.Signer }

// NewAuthority reads the private key of an authority, in OpenSSH's or PEM form
// and without a passphrase.
func NewAuthority(private string) (*Authority, error) {
	signer, err := ssh.ParsePrivateKey([]byte(private))
	if err != nil {
		return nil, fmt.Errorf("the private key of the SSH authority cannot be read: %w", err)
	}
	return &Authority{signer}, nil
}

// Public is the authority's public key, as a line of authorized_keys has it.
func (a *Authority) Public() string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(a.signer.PublicKey())))
}

// SignHost certifies a host key for the names that its host is reached by. The
// certificate does not expire; it is worth as much as the machine's key.
func (a *Authority) SignHost(random io.Reader, key HostKey, id string, names []string) (string, error) {
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(key.Public))
	if err != nil {
		return "", fmt.Errorf("certify a host key: %w", err)
	}
	var serial [8]byte
	if _, err := io.ReadFull(random, serial[:]); err != nil {
		return "", fmt.Errorf("certify a host key: %w", err)
	}
	var principals []string
	for _, name := range names { // a client asks for a host by its name in lower case
		if lower := strings.ToLower(name); !slices.Contains(principals, lower) {
			principals = append(principals, lower)
		}
	}
	c := &ssh.Certificate{Key: public, CertType: ssh.HostCert, KeyId: id, ValidPrincipals: principals,
		Serial: binary.BigEndian.Uint64(serial[:]), ValidBefore: ssh.CertTimeInfinity}
	if err := c.SignCert(random, a.signer); err != nil {
		return "", fmt.Errorf("certify a host key: %w", err)
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(c))), nil
}
