package notice

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
)

// The headers that say which notice it is, whenever it is sent again, and who has signed it.
const (
	KeyHeader       = "Idempotency-Key"
	SignatureHeader = "Mintbatch-Signature"
)

// Signature is the HMAC-SHA256 (RFC 2104) of a notice's key, a full stop and its body, in base64.
func Signature(key, id string, body []byte) string {
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write([]byte(id + "."))
	mac.Write(body)
	return "hmac-sha256=" + base64.StdEncoding.EncodeToString(mac.Sum(nil))
}
