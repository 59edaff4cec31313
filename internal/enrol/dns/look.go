package dns

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/miekg/dns"
	"golang.org/x/sync/errgroup"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/enrol"
)

// place is where the records of a name are.
type place struct{ owner, zone string }

// Look implements enrol.System.
func (s *Server) Look(ctx context.Context, names []string) ([]entry.Seen, error) {
	all := make([]entry.Seen, len(names))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(mostLinks)
	for i, name := range names {
		group.Go(func() (err error) {
			at, err := s.find(ctx, name)
			if err == nil {
				all[i], err = s.look(ctx, name, at.owner)
			}
			if err != nil {
				err = about(name, err)
			}
			return err
		})
	}
	return all, group.Wait()
}

// kinds are the types of records that are entered under a name.
func kinds(owner string) []uint16 {
	if isReverse(owner) {
		return []uint16{dns.TypePTR, dns.TypeCNAME}
	}
	return []uint16{dns.TypeA, dns.TypeAAAA, dns.TypeCNAME, dns.TypeSSHFP}
}

func isReverse(name string) bool {
	return dns.IsSubDomain("in-addr.arpa.", dns.Fqdn(name)) || dns.IsSubDomain("ip6.arpa.", dns.Fqdn(name))
}

// look tells what the server has where the records of a name are.
func (s *Server) look(ctx context.Context, name, owner string) (entry.Seen, error) {
	seen := entry.Seen{Name: name}
	for i, kind := range kinds(owner) {
		records, exists, err := s.query(ctx, owner, kind)
		if err != nil {
			return seen, err
		}
		if i == 0 && !exists {
			return seen, nil
		}
		for _, v := range values(records, owner) {
			if !slices.Contains(seen.Values, v) {
				seen.Values = append(seen.Values, v)
			}
		}
	}
	records, _, err := s.query(ctx, markLabel+owner, dns.TypeTXT)
	if err != nil {
		return seen, err
	}
	for _, rr := range records {
		if t, is := rr.(*dns.TXT); is && dns.CanonicalName(t.Hdr.Name) == markLabel+owner {
			if text := strings.Join(t.Txt, ""); seen.Owner == "" {
				seen.Owner = text
			} else if text != seen.Owner {
				seen.Owner += "; " + text // two marks are nobody's
			}
		}
	}
	if seen.Owner == "" && len(seen.Values) > 0 {
		return seen, s.withoutWildcard(ctx, &seen, owner)
	}
	return seen, nil
}

// withoutWildcard takes out what stands for all names that do not exist (RFC 4592).
func (s *Server) withoutWildcard(ctx context.Context, seen *entry.Seen, owner string) error {
	_, parent, _ := strings.Cut(owner, ".")
	star := "*." + parent
	for _, kind := range kinds(owner) {
		records, _, err := s.query(ctx, star, kind)
		if err != nil {
			return err
		}
		for _, v := range values(records, star) {
			seen.Values = slices.DeleteFunc(seen.Values, func(has string) bool { return has == v })
		}
	}
	return nil
}

func values(records []dns.RR, owner string) (all []string) {
	for _, rr := range records {
		if v := value(rr); v != "" && dns.CanonicalName(rr.Header().Name) == owner {
			all = append(all, v)
		}
	}
	return all
}

// query asks the primary for records of a name, and reports whether the name exists.
func (s *Server) query(ctx context.Context, owner string, kind uint16) (records []dns.RR, exists bool, err error) {
	m := new(dns.Msg).SetQuestion(owner, kind)
	m.RecursionDesired = false
	reply, err := s.ask(ctx, m)
	switch {
	case err != nil:
		return nil, false, err
	case reply.Rcode == dns.RcodeNameError:
		return reply.Answer, false, nil // an alias may be there whose target is not
	case reply.Rcode != dns.RcodeSuccess:
		return nil, false, refusal(reply)
	}
	return reply.Answer, true, nil
}

// find tells where the records of a name are to be: in which zone, and, of an address in a subnet that was delegated without
// a zone cut of its own (RFC 2317), under which name.
func (s *Server) find(ctx context.Context, name string) (place, error) {
	s.mu.Lock()
	at, known := s.places[name]
	s.mu.Unlock()
	if known {
		return at, nil
	}
	at = place{owner: dns.CanonicalName(name)}
	if own, is := s.classless(at.owner); is {
		at.owner = own
	} else if dns.IsSubDomain("in-addr.arpa.", at.owner) {
		records, _, err := s.query(ctx, at.owner, dns.TypePTR)
		if err != nil && !errors.Is(err, enrol.ErrRefused) { // one that has no such zone is told below
			return at, err
		}
		for _, rr := range records {
			if c, is := rr.(*dns.CNAME); is && dns.CanonicalName(c.Hdr.Name) == at.owner {
				at.owner = dns.CanonicalName(c.Target)
			}
		}
	}
	var err error
	if at.zone, err = s.zoneOf(ctx, at.owner); err != nil {
		return at, err
	}
	s.mu.Lock()
	s.places[name] = at
	s.mu.Unlock()
	return at, nil
}

// noZone means that there is no zone that a name could be in.
type noZone struct{ why, gone string }

// Error says why, and what can be done.
func (n noZone) Error() string { return fmt.Sprintf("%s: %s", enrol.ErrRefused, n.why) }

// Unwrap returns enrol.ErrRefused.
func (noZone) Unwrap() error { return enrol.ErrRefused }

// zoneOf finds the zone of a name: the longest of those that the setup names, or the one that the server tells.
func (s *Server) zoneOf(ctx context.Context, owner string) (string, error) {
	if len(s.Zones) > 0 {
		longest := ""
		for _, z := range s.Zones {
			if z = dns.CanonicalName(z); dns.IsSubDomain(z, owner) && len(z) > len(longest) {
				longest = z
			}
		}
		if longest == "" {
			why := fmt.Sprintf("%s is in none of the zones of the setup: %s", plain(owner), strings.Join(s.Zones, " "))
			return "", noZone{why, why}
		}
		return longest, nil
	}
	s.mu.Lock()
	zone, known := s.zones[siblings(owner)]
	s.mu.Unlock()
	if known {
		return zone, nil
	}
	m := new(dns.Msg).SetQuestion(owner, dns.TypeSOA)
	m.RecursionDesired = false
	reply, err := s.ask(ctx, m)
	if err != nil {
		return "", err
	}
	for _, rr := range slices.Concat(reply.Answer, reply.Ns) {
		if soa, is := rr.(*dns.SOA); is && reply.Authoritative && dns.IsSubDomain(dns.CanonicalName(soa.Hdr.Name), owner) {
			zone := dns.CanonicalName(soa.Hdr.Name)
			s.mu.Lock()
			s.zones[siblings(owner)] = zone
			s.mu.Unlock()
			return zone, nil
		}
	}
	if reply.Rcode == dns.RcodeServerFailure {
		return "", refusal(reply)
	}
	return "", noZone{fmt.Sprintf("the server has no zone for it (it answers %s): name its zones in the setup, or leave out what is in none of them (reverse: off, for names of addresses)", dns.RcodeToString[reply.Rcode]),
		"the server has no zone for it any more: bring the zone back, or leave what may stand there with `mintbatch retire --leave-entries`"}
}

// siblings is what names have in common that are in the same zone: the domain that they are in, or, of IPv6 addresses, the subnet.
func siblings(owner string) string {
	labels := dns.SplitDomainName(owner)
	n := len(labels) - 1
	if dns.IsSubDomain("ip6.arpa.", owner) {
		n = min(n, 64/4+2)
	}
	return strings.Join(labels[len(labels)-max(n, 0):], ".")
}

// classless finds, for the reverse name of an IPv4 address, its name in a zone of the setup such as 0/26.100.51.198.in-addr.arpa
// or 0-63.100.51.198.in-addr.arpa.
func (s *Server) classless(owner string) (string, bool) {
	host, parent, _ := strings.Cut(owner, ".")
	n, err := strconv.Atoi(host)
	if err != nil || !dns.IsSubDomain("in-addr.arpa.", owner) {
		return "", false
	}
	for _, z := range s.Zones {
		z = dns.CanonicalName(z)
		span, of, _ := strings.Cut(z, ".")
		low, length, slash := strings.Cut(span, "/")
		first, last, dash := strings.Cut(span, "-")
		from, to := 0, -1
		switch bits, err := strconv.Atoi(length); {
		case of != parent:
			continue
		case slash && err == nil && bits >= 24 && bits <= 32:
			from, _ = strconv.Atoi(low)
			to = from + 1<<(32-bits) - 1
		case dash:
			from, _ = strconv.Atoi(first)
			to, _ = strconv.Atoi(last)
		}
		if n >= from && n <= to {
			return host + "." + z, true
		}
	}
	return "", false
}
