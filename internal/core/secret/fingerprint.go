package secret

import (
	"crypto/sha256"
	"encoding/hex"
)

// Fingerprint is the SHA-256 of a certificate as the setup writes it.
func Fingerprint(certificate []byte) string {
	sum := sha256.Sum256(certificate)
	return "sha256:" + hex.EncodeToString(sum[:])
}
