package sandbox

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"io/fs"
	"os"
	"strings"

	"mintbatch/internal/sandbox/names"
)

// NamesKey is the name of the key that may update the sandbox's DNS server; its secret is in the file dns.key.
const NamesKey = "mint"

// zones are those of the sandbox's DNS server.
var zones = []string{"brackwater.example", "100.51.198.in-addr.arpa", "113.0.203.in-addr.arpa", "7.a.0.b.8.b.d.0.1.0.0.2.ip6.arpa"}

// serveNames starts the DNS server, at the address of the last time.
func (s *Sandbox) serveNames() error {
	key, err := os.ReadFile(s.path("dns.key"))
	if errors.Is(err, fs.ErrNotExist) {
		b := make([]byte, 32)
		_, _ = rand.Read(b)
		key = []byte(base64.StdEncoding.EncodeToString(b) + "\n")
		err = os.WriteFile(s.path("dns.key"), key, 0o600)
	}
	if err != nil {
		return err
	}
	last, err := os.ReadFile(s.path("dns.listen"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	s.Names, err = names.Serve(names.Options{File: s.path("dns.records"), Listen: strings.TrimSpace(string(last)), Zones: zones, Key: NamesKey, Secret: strings.TrimSpace(string(key)),
		Lost: func() bool { return s.options.Faults.strike("lose-update") }, Refused: func() bool { return s.options.Faults.strike("refuse-update") }})
	if err != nil {
		return err
	}
	return os.WriteFile(s.path("dns.listen"), []byte(s.Names.Address+"\n"), 0o600)
}
