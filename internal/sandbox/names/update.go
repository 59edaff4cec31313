package names

import (
	"slices"

	"github.com/miekg/dns"
)

// update makes an update, all of it or nothing (RFC 2136, section 3).
func (s *Server) update(w dns.ResponseWriter, m *dns.Msg) (rcode int) {
	t := m.IsTsig()
	switch {
	case t == nil || s.Refused != nil && s.Refused():
		return dns.RcodeRefused
	case w.TsigStatus() != nil:
		return dns.RcodeNotAuth
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	zone := dns.CanonicalName(m.Question[0].Name)
	if !slices.ContainsFunc(s.Zones, func(z string) bool { return dns.CanonicalName(z) == zone }) {
		return dns.RcodeNotAuth
	}
	if rcode := s.expects(zone, m.Answer); rcode != dns.RcodeSuccess {
		return rcode
	}
	next := slices.Clone(s.records)
	for _, rr := range m.Ns {
		if s.zoneOf(dns.CanonicalName(rr.Header().Name)) != zone {
			return dns.RcodeNotZone
		}
		next = changed(next, rr)
	}
	before := s.records
	s.records = next
	if err := s.keep(); err != nil {
		s.records = before
		return dns.RcodeServerFailure
	}
	return dns.RcodeSuccess
}

// of are the records of a name and a type, or all types.
func of(records []dns.RR, name string, kind uint16) (some []dns.RR) {
	for _, rr := range records {
		if h := rr.Header(); dns.CanonicalName(h.Name) == dns.CanonicalName(name) && (kind == dns.TypeANY || h.Rrtype == kind) {
			some = append(some, rr)
		}
	}
	return some
}

// same reports whether two records have the same content, whatever their TTL and class.
func same(a, b dns.RR) bool {
	return content(a) == content(b)
}

// content is the text of a record; digits of a fingerprint may be of either case elsewhere.
func content(rr dns.RR) string {
	rr = dns.Copy(rr)
	h := rr.Header()
	h.Name, h.Class, h.Ttl = dns.CanonicalName(h.Name), dns.ClassINET, 0
	return rr.String()
}

// expects looks at the prerequisites (section 3.2).
func (s *Server) expects(zone string, all []dns.RR) int {
	var exact []dns.RR
	for _, rr := range all {
		h := rr.Header()
		if s.zoneOf(dns.CanonicalName(h.Name)) != zone {
			return dns.RcodeNotZone
		}
		there := len(of(s.records, h.Name, h.Rrtype)) > 0
		switch {
		case h.Class == dns.ClassNONE && there && h.Rrtype == dns.TypeANY:
			return dns.RcodeYXDomain
		case h.Class == dns.ClassNONE && there:
			return dns.RcodeYXRrset
		case h.Class == dns.ClassANY && !there && h.Rrtype == dns.TypeANY:
			return dns.RcodeNameError
		case h.Class == dns.ClassANY && !there:
			return dns.RcodeNXRrset
		case h.Class == dns.ClassINET:
			exact = append(exact, rr)
		}
	}
	for _, rr := range exact {
		h := rr.Header()
		has, wants := of(s.records, h.Name, h.Rrtype), of(exact, h.Name, h.Rrtype)
		if len(has) != len(wants) || !slices.ContainsFunc(has, func(one dns.RR) bool { return same(one, rr) }) {
			return dns.RcodeNXRrset
		}
	}
	return dns.RcodeSuccess
}

// changed makes one change (section 3.4.2).
func changed(records []dns.RR, rr dns.RR) []dns.RR {
	h := rr.Header()
	named := func(one dns.RR) bool { return dns.CanonicalName(one.Header().Name) == dns.CanonicalName(h.Name) }
	switch h.Class {
	case dns.ClassANY:
		return slices.DeleteFunc(records, func(one dns.RR) bool {
			return named(one) && (h.Rrtype == dns.TypeANY || one.Header().Rrtype == h.Rrtype) && one.Header().Rrtype != dns.TypeSOA && one.Header().Rrtype != dns.TypeNS
		})
	case dns.ClassNONE:
		return slices.DeleteFunc(records, func(one dns.RR) bool { return named(one) && same(one, rr) })
	}
	for i, one := range records {
		switch {
		case !named(one):
		case h.Rrtype == dns.TypeCNAME != (one.Header().Rrtype == dns.TypeCNAME):
			return records // an alias stands alone
		case h.Rrtype == dns.TypeCNAME || same(one, rr):
			records[i] = rr
			return records
		}
	}
	return append(records, rr)
}
