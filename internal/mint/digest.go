package mint

import (
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"io"
)

// digester passes what is read on and keeps its SHA-256, by which a run later
// tells with which sheet it was made.
type digester struct {
	io.Reader
	hash hash.Hash
}

func newDigester(r io.Reader) *digester {
	h := sha256.New()
	return &digester{io.TeeReader(r, h), h}
}

func (d *digester) sum() string { return hex.EncodeToString(d.hash.Sum(nil)) }
