// Package zone writes names and addresses into zone files (RFC 1035, section 5) and hosts files (hosts(5)), in which all
// lines of others stay as they are.
package zone

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/miekg/dns"

	"mintbatch/internal/core/pattern"
)

// Host is a machine with its names.
type Host struct {
	Name, Domain string
	Addresses    []netip.Addr
	// Key is its SSH host key, as authorized_keys has it; empty if it is not known.
	Key string
}

func (h Host) fqdn() string {
	if h.Domain == "" {
		return h.Name
	}
	return h.Name + "." + h.Domain
}

// The lines between which lines are ours; the id is that of the ledger. What a comment is depends on the file.
const (
	begins = " mintbatch begin "
	ends   = " mintbatch end "
)

// ErrBlock means that the lines of ours in a file have a beginning and no end, or the other way round.
var ErrBlock = errors.New("the lines of mintbatch in it have no beginning or no end")

// apart takes our lines out of a file: what comes before, and behind.
func apart(old []byte, comment, id string) (before, behind []byte, err error) {
	begin, end := -1, -1
	at := 0
	for line := range bytes.Lines(old) {
		switch strings.TrimSpace(string(line)) {
		case comment + begins + id:
			if begin >= 0 {
				return nil, nil, ErrBlock
			}
			begin = at
		case comment + ends + id:
			if begin < 0 || end >= 0 {
				return nil, nil, ErrBlock
			}
			end = at + len(line)
		}
		at += len(line)
	}
	switch {
	case begin < 0 && end < 0:
		before = old
		if len(before) > 0 && !bytes.HasSuffix(before, []byte("\n")) {
			before = append(slices.Clone(before), '\n')
		}
		return before, nil, nil
	case begin < 0 || end < 0:
		return nil, nil, ErrBlock
	}
	return old[:begin], old[end:], nil
}

// around puts lines of ours between others.
func around(before, behind []byte, comment, id string, lines []string) []byte {
	var b bytes.Buffer
	b.Write(before)
	b.WriteString(comment + begins + id + "\n")
	for _, l := range lines {
		b.WriteString(l + "\n")
	}
	b.WriteString(comment + ends + id + "\n")
	b.Write(behind)
	return b.Bytes()
}

// ErrHosts means that a file is no hosts file.
var ErrHosts = errors.New("it is no hosts file and is left unchanged")

// Hosts brings a hosts file up to date: lines of this ledger are replaced by those of the hosts.
func Hosts(old []byte, hosts []Host, ledger string) ([]byte, error) {
	before, behind, err := apart(old, "#", ledger)
	if err != nil {
		return nil, err
	}
	n := 0
	for line := range bytes.Lines(old) {
		n++
		text, _, _ := bytes.Cut(line, []byte("#"))
		fields := strings.Fields(string(text))
		if len(fields) == 0 {
			continue
		}
		if _, err := netip.ParseAddr(fields[0]); err != nil || len(fields) < 2 {
			return nil, fmt.Errorf("%w (line %d)", ErrHosts, n)
		}
	}
	var lines []string
	for _, h := range sorted(hosts) {
		names := h.fqdn()
		if h.Domain != "" {
			names += " " + h.Name
		}
		for _, a := range h.Addresses {
			lines = append(lines, a.String()+"\t"+names)
		}
	}
	return around(before, behind, "#", ledger, lines), nil
}

func sorted(hosts []Host) []Host {
	hosts = slices.Clone(hosts)
	slices.SortFunc(hosts, func(a, b Host) int { return strings.Compare(a.fqdn(), b.fqdn()) })
	return hosts
}

// Taken says that others' lines have a name that is to be written.
type Taken struct{ Names []string }

// Error names them.
func (t *Taken) Error() string {
	return "others' lines have records of " + strings.Join(t.Names, " ") + "; take them out first, or rename the machines"
}

// ErrZone means that a file is no zone file.
var ErrZone = errors.New("it is no zone file")

// Zone brings a zone file up to date with the hosts of its zone, and returns how many these are. Names that others'
// lines have are a *Taken. The serial number of the zone grows if anything has changed. The zone is that of the file's
// SOA record, or origin where there is none.
func Zone(old []byte, origin string, hosts []Host, ledger string) (text []byte, n int, err error) {
	before, behind, err := apart(old, ";", ledger)
	if err != nil {
		return nil, 0, err
	}
	others, soa, err := records(slices.Concat(before, behind), origin)
	if err != nil {
		return nil, 0, err
	}
	if soa != nil {
		origin = soa.Hdr.Name
	}
	if origin == "" {
		return nil, 0, fmt.Errorf("%w: it has no SOA record, so the zone has to be named", ErrZone)
	}
	origin = dns.CanonicalName(origin)
	var lines []string
	taken := &Taken{}
	for _, h := range sorted(hosts) {
		name := dns.CanonicalName(h.fqdn())
		if h.Domain == "" || !dns.IsSubDomain(origin, name) {
			continue
		}
		if others[name] {
			taken.Names = append(taken.Names, h.fqdn())
		}
		n++
		for _, a := range h.Addresses {
			kind := "A"
			if a.Is6() {
				kind = "AAAA"
			}
			lines = append(lines, fmt.Sprintf("%s IN %s %s", name, kind, a))
		}
		if print := Fingerprint(h.Key); print != "" {
			lines = append(lines, name+" IN SSHFP "+print)
		}
	}
	if len(taken.Names) > 0 {
		return nil, 0, taken
	}
	text = around(before, behind, ";", ledger, lines)
	if soa != nil && !bytes.Equal(text, old) {
		text = grown(text, soa.Serial)
	}
	return text, n, nil
}

// records are the names in a zone file, and its SOA record.
func records(text []byte, origin string) (names map[string]bool, soa *dns.SOA, err error) {
	if origin != "" {
		origin = dns.Fqdn(origin)
	}
	names = map[string]bool{}
	p := dns.NewZoneParser(bytes.NewReader(text), origin, "")
	p.SetDefaultTTL(3600)
	for rr, ok := p.Next(); ok; rr, ok = p.Next() {
		if s, is := rr.(*dns.SOA); is && soa == nil {
			soa = s
			continue
		}
		names[dns.CanonicalName(rr.Header().Name)] = true
	}
	if err := p.Err(); err != nil {
		return nil, nil, fmt.Errorf("%w: %w", ErrZone, err)
	}
	return names, soa, nil
}

// serial is the serial number of an SOA record: the first number behind the two names.
var serial = pattern.Lazy(`(?is)(\bSOA\s+\S+\s+\S+\s*(?:;[^\n]*\n\s*|\(\s*)*)(\d+)`)

// grown is a zone file with the next serial number (RFC 1982).
func grown(text []byte, from uint32) []byte {
	m := serial().FindSubmatchIndex(text)
	if m == nil || string(text[m[4]:m[5]]) != strconv.FormatUint(uint64(from), 10) {
		return text
	}
	next := from + 1
	if next == 0 {
		next = 1
	}
	return slices.Concat(text[:m[4]], strconv.AppendUint(nil, uint64(next), 10), text[m[5]:])
}

// Fingerprint is that of a host key as an SSHFP record has it (RFC 4255, RFC 6594, RFC 7479); empty for keys that have
// none.
func Fingerprint(key string) string {
	fields := strings.Fields(key)
	if len(fields) < 2 {
		return ""
	}
	blob, err := base64.StdEncoding.DecodeString(fields[1])
	algorithm := map[string]int{"ssh-rsa": 1, "ecdsa-sha2-nistp256": 3, "ecdsa-sha2-nistp384": 3, "ecdsa-sha2-nistp521": 3, "ssh-ed25519": 4}[fields[0]]
	if err != nil || algorithm == 0 {
		return ""
	}
	sum := sha256.Sum256(blob)
	return fmt.Sprintf("%d 2 %s", algorithm, hex.EncodeToString(sum[:]))
}
