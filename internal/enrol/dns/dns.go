// Package dns enters machines into a DNS server by updates (RFC 2136) that are signed (TSIG, RFC 8945). Beside each name that it
// enters stands a TXT record with the mark of whose it is.
package dns

import (
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"mintbatch/internal/enrol/kerberos"
)

// Options are what is to be known of a server.
type Options struct {
	Server    netip.AddrPort  // the primary
	Key       string          // the name of the key that signs; empty for none
	Algorithm string          // such as hmac-sha256
	Secret    string          // of the key, in base64
	Kerberos  *kerberos.Login // instead of a key: updates are signed by one that is agreed on (GSS-TSIG)
	Zones     []string        // empty: the server is asked
	TTL       time.Duration
}

// Server is a DNS server.
type Server struct {
	Options
	secrets map[string]string // by the name of the key
	links   chan *dns.Conn    // to the primary, or nil where one is to be opened

	agreeing sync.Mutex
	agreed   agreement

	mu     sync.Mutex
	places map[string]place  // of names
	zones  map[string]string // of siblings
	queues map[string]*queue // of updates, by zone
	silent time.Time         // when it last did not answer in time
}

// mostLinks is how many connections there are at most.
const mostLinks = 8

// New returns a server; nothing is sent to it yet.
func New(o Options) *Server {
	s := &Server{Options: o, links: make(chan *dns.Conn, mostLinks), places: map[string]place{}, zones: map[string]string{}, queues: map[string]*queue{}}
	for range mostLinks {
		s.links <- nil
	}
	if o.Key != "" {
		s.secrets = map[string]string{dns.CanonicalName(o.Key): o.Secret}
	}
	return s
}

// Close closes the connections.
func (s *Server) Close() {
	for range mostLinks {
		if c := <-s.links; c != nil {
			_ = c.Close()
		}
		s.links <- nil
	}
}

// markLabel is what stands before a name in that of its mark; it is none of a host (RFC 8552).
const markLabel = "_mintbatch."

// value writes a record as entries have it; empty for one of a kind that is not entered.
func value(rr dns.RR) string {
	switch rr := rr.(type) {
	case *dns.A:
		return "A " + rr.A.String()
	case *dns.AAAA:
		return "AAAA " + rr.AAAA.String()
	case *dns.CNAME:
		return "CNAME " + plain(rr.Target)
	case *dns.PTR:
		return "PTR " + plain(rr.Ptr)
	case *dns.SSHFP:
		return fmt.Sprintf("SSHFP %d %d %s", rr.Algorithm, rr.Type, strings.ToLower(rr.FingerPrint))
	}
	return ""
}

func plain(name string) string { return strings.TrimSuffix(dns.CanonicalName(name), ".") }

// record is value the other way round.
func (s *Server) record(owner, value string) (dns.RR, error) {
	kind, rest, _ := strings.Cut(value, " ")
	if kind == "CNAME" || kind == "PTR" {
		rest = dns.Fqdn(rest)
	}
	return dns.NewRR(fmt.Sprintf("%s %d IN %s %s", owner, s.ttl(), kind, rest))
}

// mark is the record of a mark.
func (s *Server) mark(owner, mark string) dns.RR {
	return &dns.TXT{Hdr: dns.RR_Header{Name: markLabel + owner, Rrtype: dns.TypeTXT, Class: dns.ClassINET, Ttl: s.ttl()}, Txt: chunks(mark)}
}

// chunks divides a text into strings of at most 255 bytes (RFC 1035, section 3.3).
func chunks(text string) (all []string) {
	for len(text) > 255 {
		all, text = append(all, text[:255]), text[255:]
	}
	return append(all, text)
}

func (s *Server) ttl() uint32 { return uint32(s.TTL / time.Second) }
