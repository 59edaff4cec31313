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
	next := map[string][]dns.RR{} // of the owners that it is about
	for _, rr := range m.Ns {
		owner := dns.CanonicalName(rr.Header().Name)
		if s.zoneOf(owner) != zone {
			return dns.RcodeNotZone
		}
		if _, has := next[owner]; !has {
			next[owner] = slices.Clone(s.records.of[owner])
		}
		next[owner] = changed(next[owner], rr)
	}
	before := map[string][]dns.RR{}
	for owner, all := range next {
		before[owner] = s.records.of[owner]
		s.records.set(owner, all)
	}
	if err := s.keep(); err != nil {
		for owner, all := range before {
			s.records.set(owner, all)
		}
		return dns.RcodeServerFailure
	}
	return dns.RcodeSuccess
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
		there := len(s.records.kind(h.Name, h.Rrtype)) > 0
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
		has := s.records.kind(h.Name, h.Rrtype)
		wants := slices.DeleteFunc(slices.Clone(exact), func(one dns.RR) bool {
			return dns.CanonicalName(one.Header().Name) != dns.CanonicalName(h.Name) || one.Header().Rrtype != h.Rrtype
		})
		if len(has) != len(wants) || !slices.ContainsFunc(has, func(one dns.RR) bool { return same(one, rr) }) {
			return dns.RcodeNXRrset
		}
	}
	return dns.RcodeSuccess
}

// changed makes one change (section 3.4.2) to the records of its owner.
func changed(records []dns.RR, rr dns.RR) []dns.RR {
	h := rr.Header()
	switch h.Class {
	case dns.ClassANY:
		return slices.DeleteFunc(records, func(one dns.RR) bool {
			return (h.Rrtype == dns.TypeANY || one.Header().Rrtype == h.Rrtype) && one.Header().Rrtype != dns.TypeSOA && one.Header().Rrtype != dns.TypeNS
		})
	case dns.ClassNONE:
		return slices.DeleteFunc(records, func(one dns.RR) bool { return same(one, rr) })
	}
	for i, one := range records {
		switch {
		case h.Rrtype == dns.TypeCNAME != (one.Header().Rrtype == dns.TypeCNAME):
			return records // an alias stands alone
		case h.Rrtype == dns.TypeCNAME || same(one, rr):
			records[i] = rr
			return records
		}
	}
	return append(records, rr)
}
