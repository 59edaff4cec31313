package ovf

import (
	"bufio"
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	_ "crypto/sha1" // of packages as old as the format
	_ "crypto/sha256"
	_ "crypto/sha512"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"strings"

	"mintbatch/internal/core/pattern"
)

// Digest is what a manifest says of a file.
type Digest struct {
	File string
	Hash crypto.Hash
	Sum  []byte
}

var digestLine = pattern.Lazy(`^(SHA1|SHA256|SHA512) ?\((.*)\) ?= ?([0-9a-fA-F]+)$`)

// Hashes are the digests that manifests have (DSP0243, clause 5.1).
var hashes = map[string]crypto.Hash{"SHA1": crypto.SHA1, "SHA256": crypto.SHA256, "SHA512": crypto.SHA512}

// ParseManifest reads a manifest.
func ParseManifest(text string) (all []Digest, err error) {
	lines := bufio.NewScanner(strings.NewReader(text))
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" {
			continue
		}
		d, err := parseDigest(line)
		if err != nil {
			return nil, bad("line %d of its manifest: %.80q", n, line)
		}
		all = append(all, d)
	}
	return all, nil
}

func parseDigest(line string) (Digest, error) {
	found := digestLine().FindStringSubmatch(line)
	if found == nil {
		return Digest{}, bad("no digest")
	}
	sum, err := hex.DecodeString(found[3])
	if err != nil || len(sum) != hashes[found[1]].Size() {
		return Digest{}, bad("no digest")
	}
	return Digest{found[2], hashes[found[1]], sum}, nil
}

// Certificate says who has signed a manifest, in words. Whether the signer can be trusted is not known here.
func Certificate(text, manifest []byte) string {
	line, _, _ := strings.Cut(string(text), "\n")
	d, err := parseDigest(strings.TrimSpace(line))
	if err != nil { // a signature is longer than a digest
		found := digestLine().FindStringSubmatch(strings.TrimSpace(line))
		if found == nil {
			return "its certificate cannot be read"
		}
		d.Hash = hashes[found[1]]
		d.Sum, _ = hex.DecodeString(found[3])
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return "its certificate cannot be read"
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return "its certificate cannot be read"
	}
	h := d.Hash.New()
	h.Write(manifest)
	sum, good := h.Sum(nil), false
	switch key := c.PublicKey.(type) {
	case *rsa.PublicKey:
		good = rsa.VerifyPKCS1v15(key, d.Hash, sum, d.Sum) == nil
	case *ecdsa.PublicKey:
		good = ecdsa.VerifyASN1(key, sum, d.Sum)
	}
	if !good {
		return "its manifest is NOT what " + c.Subject.String() + " has signed"
	}
	return "its manifest was signed by " + c.Subject.String() + "; whether they can be trusted was not looked up"
}
