// Package names is a small DNS server on loopback that takes signed updates (RFC 2136, RFC 8945): the stand-in for that of an
// office. It answers for its zones only, and keeps them in a file.
package names

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/miekg/dns"
)

// Options say how a server runs.
type Options struct {
	// File keeps the records.
	File string
	// Listen is a loopback address with its port; empty means any free port.
	Listen string
	Zones  []string
	// Key signs updates with Secret (hmac-sha256).
	Key, Secret string
	// Lost, if set, reports whether the reply to an update is lost that was made.
	Lost func() bool
	// Refused, if set, reports whether an update is refused.
	Refused func() bool
}

// Server is a server that runs.
type Server struct {
	Options
	Address string
	servers []*dns.Server // by TCP and UDP
	done    chan error

	mu      sync.Mutex
	records *records
}

// Serve starts a server.
func Serve(o Options) (*Server, error) {
	s := &Server{Options: o, done: make(chan error, 2), records: newRecords()}
	if _, err := base64.StdEncoding.DecodeString(o.Secret); err != nil {
		return nil, fmt.Errorf("its key: %w", err)
	}
	if err := s.load(); err != nil {
		return nil, err
	}
	if o.Listen == "" {
		o.Listen = "127.0.0.1:0"
	}
	l, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return nil, err
	}
	if !l.Addr().(*net.TCPAddr).IP.IsLoopback() {
		_ = l.Close()
		return nil, fmt.Errorf("%s is no loopback address", o.Listen)
	}
	s.Address = l.Addr().String()
	p, err := net.ListenPacket("udp", s.Address)
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	for _, server := range []*dns.Server{{Listener: l}, {PacketConn: p}} {
		started := make(chan struct{})
		server.Handler, server.TsigSecret = dns.HandlerFunc(s.answer), map[string]string{dns.CanonicalName(o.Key): o.Secret}
		server.MsgAcceptFunc = func(dns.Header) dns.MsgAcceptAction { return dns.MsgAccept }
		server.MaxTCPQueries, server.NotifyStartedFunc = -1, func() { close(started) }
		s.servers = append(s.servers, server)
		go func() { s.done <- server.ActivateAndServe() }()
		<-started
	}
	return s, nil
}

// Close stops it.
func (s *Server) Close() (err error) {
	for _, server := range s.servers {
		err = errors.Join(err, server.Shutdown(), <-s.done)
	}
	return err
}

func (s *Server) load() error {
	f, err := os.Open(s.File)
	if err == nil {
		defer f.Close()
		p := dns.NewZoneParser(f, ".", s.File)
		for rr, ok := p.Next(); ok; rr, ok = p.Next() {
			s.records.add(rr)
		}
		return p.Err()
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, z := range s.Zones {
		for _, text := range []string{"SOA ns.sandbox.example. desk.sandbox.example. 1 3600 600 86400 60", "NS ns.sandbox.example."} {
			rr, err := dns.NewRR(dns.Fqdn(z) + " 3600 IN " + text)
			if err != nil {
				return err
			}
			s.records.add(rr)
		}
	}
	return s.keep()
}

// keep writes all records down, whole or not at all.
func (s *Server) keep() error {
	var b strings.Builder
	for _, owner := range s.records.order {
		b.WriteString(s.records.text[owner])
	}
	next := filepath.Join(filepath.Dir(s.File), "."+filepath.Base(s.File))
	if err := os.WriteFile(next, []byte(b.String()), 0o600); err != nil {
		return err
	}
	return os.Rename(next, s.File)
}

func (s *Server) answer(w dns.ResponseWriter, m *dns.Msg) {
	reply := new(dns.Msg).SetReply(m)
	lost := false
	if len(m.Question) != 1 {
		reply.Rcode = dns.RcodeFormatError
	} else if m.Opcode == dns.OpcodeUpdate {
		reply.Rcode = s.update(w, m)
		lost = reply.Rcode == dns.RcodeSuccess && s.Lost != nil && s.Lost()
	} else {
		s.query(reply, m.Question[0])
	}
	if t := m.IsTsig(); t != nil && w.TsigStatus() == nil {
		reply.SetTsig(t.Hdr.Name, t.Algorithm, 300, int64(t.TimeSigned))
	}
	if lost {
		_ = w.Close()
		return
	}
	_ = w.WriteMsg(reply)
}

// zoneOf is the zone of a name; empty if it is in none.
func (s *Server) zoneOf(name string) (longest string) {
	for _, z := range s.Zones {
		if z = dns.CanonicalName(z); dns.IsSubDomain(z, name) && len(z) > len(longest) {
			longest = z
		}
	}
	return longest
}

// query answers a question (RFC 1034, section 4.3.2), without wildcards.
func (s *Server) query(reply *dns.Msg, q dns.Question) {
	s.mu.Lock()
	defer s.mu.Unlock()
	name := dns.CanonicalName(q.Name)
	zone := s.zoneOf(name)
	if zone == "" {
		reply.Rcode = dns.RcodeRefused
		return
	}
	reply.Authoritative = true
	if q.Qtype == dns.TypeAXFR {
		s.transfer(reply, zone)
		return
	}
	for _, rr := range s.records.of[name] {
		if h := rr.Header(); h.Rrtype == q.Qtype || h.Rrtype == dns.TypeCNAME || q.Qtype == dns.TypeANY {
			reply.Answer = append(reply.Answer, dns.Copy(rr))
		}
	}
	if name != zone || q.Qtype != dns.TypeSOA {
		for _, rr := range s.records.kind(zone, dns.TypeSOA) {
			reply.Ns = append(reply.Ns, dns.Copy(rr))
		}
	}
	if s.records.below[name] == 0 {
		reply.Rcode = dns.RcodeNameError
	}
}

// transfer answers with all of a zone, its SOA record first and last (RFC 5936).
func (s *Server) transfer(reply *dns.Msg, zone string) {
	for _, owner := range s.records.order {
		for _, rr := range s.records.of[owner] {
			if s.zoneOf(owner) == zone {
				reply.Answer = append(reply.Answer, dns.Copy(rr))
			}
		}
	}
	for _, rr := range reply.Answer {
		if rr.Header().Rrtype == dns.TypeSOA {
			reply.Answer = append(reply.Answer, rr)
			return
		}
	}
}
