package machine

import (
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"
)

// PublicKeys are SSH public keys, a line of an authorized_keys file (sshd(8)) each, or
// references to sealed ones.
type PublicKeys []string

// AppendText adds the keys of an authorized_keys file without its comments, or one
// reference.
func (k *PublicKeys) AppendText(text string) error {
	if IsSealed(text) {
		*k = append(*k, text)
		return nil
	}
	var keys []string
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if err := CheckPublicKey(line); err != nil {
			return err
		}
		keys = append(keys, line)
	}
	if keys == nil {
		return ErrPublicKey
	}
	*k = append(*k, keys...)
	return nil
}

// Expects describes a public key.
func (PublicKeys) Expects() string { return "the line of a .pub file, or file:PATH" }

// ErrPublicKey is what every failure of CheckPublicKey unwraps to.
var ErrPublicKey = errors.New("not an SSH public key")

// CheckPublicKey accepts one line as it may stand in an authorized_keys file
// (sshd(8)). The error does not repeat the line: it may be a private key, pasted by
// mistake.
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

// Certificates are X.509 certificates in PEM, one each, or references to sealed ones.
type Certificates []string

// AppendText adds the certificates of a PEM file, or one reference.
func (c *Certificates) AppendText(text string) error {
	if IsSealed(text) {
		*c = append(*c, text)
		return nil
	}
	var all []string
	block, rest := pem.Decode([]byte(text))
	for ; block != nil; block, rest = pem.Decode(rest) {
		if _, err := x509.ParseCertificate(block.Bytes); err != nil || block.Type != "CERTIFICATE" {
			return errors.New("not a certificate in PEM")
		}
		all = append(all, string(pem.EncodeToMemory(&pem.Block{Type: block.Type, Bytes: block.Bytes})))
	}
	if all == nil || strings.TrimSpace(string(rest)) != "" {
		return errors.New("not a certificate in PEM")
	}
	*c = append(*c, all...)
	return nil
}

// Expects describes a certificate.
func (Certificates) Expects() string { return "PEM certificates; write file:PATH" }
