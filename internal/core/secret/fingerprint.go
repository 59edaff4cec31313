package secret

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"strings"
)

// Fingerprint is the SHA-256 of a certificate; its zero value is none.
type Fingerprint [sha256.Size]byte

// FingerprintOf returns that of a certificate in DER.
func FingerprintOf(certificate []byte) Fingerprint { return sha256.Sum256(certificate) }

// UnmarshalText reads 64 hexadecimal digits in either case, with or without colons and
// `sha256:` before them.
func (f *Fingerprint) UnmarshalText(text []byte) error {
	digits := strings.NewReplacer("-", "", "=", ":").Replace(strings.ToLower(string(text)))
	digits = strings.ReplaceAll(strings.TrimPrefix(digits, "sha256:"), ":", "")
	sum, err := hex.DecodeString(digits)
	if err != nil || len(sum) != len(f) || Fingerprint(sum).IsZero() {
		return errors.New("write 64 hexadecimal digits, with or without colons")
	}
	*f = Fingerprint(sum)
	return nil
}

// Expects describes a fingerprint.
func (Fingerprint) Expects() string { return "the SHA-256 fingerprint of a certificate" }

// IsZero reports whether there is no fingerprint.
func (f Fingerprint) IsZero() bool { return f == Fingerprint{} }

// String writes the fingerprint as the setup has it.
func (f Fingerprint) String() string { return "sha256:" + hex.EncodeToString(f[:]) }
