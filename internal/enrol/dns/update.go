package dns

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/miekg/dns"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/enrol"
)

// mostLooked is how often a name is looked at that changes meanwhile.
const mostLooked = 3

// Change implements enrol.System. What the ledger says is tried first; the prerequisites of the update have the server refuse it
// where that is not so, and then it is looked at.
func (s *Server) Change(ctx context.Context, c entry.Change) error {
	at, err := s.find(ctx, c.Name)
	if none := (noZone{}); errors.As(err, &none) && len(c.Want) == 0 {
		if len(c.Had) == 0 {
			return nil // nothing was ever entered, and nothing stands there
		}
		err = noZone{why: none.gone}
	}
	if err != nil {
		return about(c.Name, err)
	}
	seen := entry.Seen{Name: c.Name}
	switch { // what is taken to stand there the server is asked to confirm
	case c.Forgotten && len(c.Want) == 0:
		if seen, err = s.look(ctx, c.Name, at.owner); err != nil {
			return about(c.Name, err)
		}
	case !c.Forgotten && c.Had != nil && !c.Was.IsZero():
		seen.Owner = c.Was.String()
	}
	for range mostLooked {
		verdict, err := c.Judge(seen)
		if err != nil || verdict == entry.Nothing {
			return err
		}
		p, err := s.part(c, verdict, seen.Owner, at.owner)
		if err != nil {
			return err
		}
		reply, err := s.update(ctx, at.zone, p)
		switch {
		case s.Kerberos != nil && errors.Is(err, dns.ErrSig):
			return s.standsNow(ctx, c, at.owner, err)
		case err != nil:
			return about(c.Name, err)
		case reply.Rcode == dns.RcodeSuccess:
			return nil
		case !isPrerequisite(reply.Rcode):
			return fmt.Errorf("zone %s: %w", plain(at.zone), refusal(reply))
		}
		if seen, err = s.look(ctx, c.Name, at.owner); err != nil {
			return about(c.Name, err)
		}
	}
	return &entry.Foreign{Name: c.Name, Seen: seen, Has: "it has records of other types"}
}

// Place implements enrol.Placer: a name needs a zone.
func (s *Server) Place(ctx context.Context, name string) error {
	if _, err := s.find(ctx, name); err != nil {
		return about(name, err)
	}
	return nil
}

// standsNow looks whether an update was made whose answer has a wrong signature, as those of some servers have with keys that were
// agreed on.
func (s *Server) standsNow(ctx context.Context, c entry.Change, owner string, unproven error) error {
	seen, err := s.look(ctx, c.Name, owner)
	if err != nil {
		return about(c.Name, err)
	}
	has := func(v string) bool { return slices.Contains(seen.Values, v) }
	marked := seen.Owner == c.Owner.String()
	if marked != (len(c.Want) > 0) || slices.ContainsFunc(c.Gone(), has) || slices.ContainsFunc(c.Want, func(v string) bool { return !has(v) }) {
		return about(c.Name, unproven)
	}
	return nil
}

// isPrerequisite reports whether an update was not made because things are not as it expects (RFC 2136, section 3.2).
func isPrerequisite(rcode int) bool {
	return slices.Contains([]int{dns.RcodeYXDomain, dns.RcodeYXRrset, dns.RcodeNXRrset, dns.RcodeNameError}, rcode)
}

// part is what an update says of one name.
type part struct {
	expects, does []dns.RR
	reply         chan reply
}

type reply struct {
	*dns.Msg
	err error
}

// part writes a change down: what has to stand there, and what is done.
func (s *Server) part(c entry.Change, verdict entry.Verdict, mark, owner string) (*part, error) {
	p := &part{reply: make(chan reply, 1)}
	m := new(dns.Msg).SetUpdate(".") // for its classes only
	if verdict == entry.Enter {
		m.NameNotUsed([]dns.RR{s.mark(owner, ""), &dns.ANY{Hdr: dns.RR_Header{Name: owner}}})
	} else {
		m.Used([]dns.RR{s.mark(owner, mark)})
	}
	gone, err := s.records(owner, c.Gone())
	if err != nil {
		return nil, err
	}
	m.Remove(gone)
	want, err := s.records(owner, c.Want)
	if err != nil {
		return nil, err
	}
	m.Insert(want)
	own := c.Owner.String()
	if verdict == entry.Update && (mark != own || len(want) == 0) {
		m.Remove([]dns.RR{s.mark(owner, mark)})
	}
	if len(want) > 0 && (verdict == entry.Enter || mark != own) {
		m.Insert([]dns.RR{s.mark(owner, own)})
	}
	p.expects, p.does = m.Answer, m.Ns
	return p, nil
}

func (s *Server) records(owner string, values []string) ([]dns.RR, error) {
	all := make([]dns.RR, len(values))
	for i, v := range values {
		rr, err := s.record(owner, v)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", plain(owner), v, err)
		}
		all[i] = rr
	}
	return all, nil
}

// about says of which name an error is, unless it is the server's whatever the name.
func about(name string, err error) error {
	if errors.Is(err, enrol.ErrUnreachable) {
		return err
	}
	return fmt.Errorf("%s: %w", name, err)
}
