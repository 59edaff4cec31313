package dns

import (
	"context"

	"github.com/miekg/dns"
)

// queue has the parts of updates of a zone that wait while one is under way: they go together.
type queue struct {
	waiting []*part
	busy    bool
}

// mostBytes is how large an update becomes; a message has at most 65,535 bytes (RFC 1035, section 4.2.2).
const mostBytes = 48_000

// update sends a part of an update, together with others of the same zone that are asked for meanwhile, and returns what the
// server answers to it.
func (s *Server) update(ctx context.Context, zone string, p *part) (*dns.Msg, error) {
	s.mu.Lock()
	q := s.queues[zone]
	if q == nil {
		q = &queue{}
		s.queues[zone] = q
	}
	q.waiting = append(q.waiting, p)
	if !q.busy {
		q.busy = true
		go s.empty(zone, q)
	}
	s.mu.Unlock()
	select {
	case r := <-p.reply:
		return r.Msg, r.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// empty sends what waits in a queue until nothing does.
func (s *Server) empty(zone string, q *queue) {
	for {
		s.mu.Lock()
		parts, m := take(zone, q.waiting)
		q.waiting = q.waiting[len(parts):]
		q.busy = len(parts) > 0
		s.mu.Unlock()
		if len(parts) == 0 {
			return
		}
		r := s.send(m)
		if len(parts) == 1 || r.err != nil || !isPrerequisite(r.Rcode) {
			for _, p := range parts {
				p.reply <- r
			}
			continue
		}
		for _, p := range parts { // one of them stands against all
			_, alone := take(zone, []*part{p})
			p.reply <- s.send(alone)
		}
	}
}

func (s *Server) send(m *dns.Msg) reply {
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	answer, err := s.ask(ctx, m)
	if s.Kerberos != nil && err == nil && answer.Rcode == dns.RcodeNotAuth { // it may have forgotten the key that was agreed on
		answer, err = s.ask(ctx, m)
	}
	return reply{answer, err}
}

// take makes one update of the first parts, as many as have room in it.
func take(zone string, parts []*part) ([]*part, *dns.Msg) {
	m := new(dns.Msg).SetUpdate(zone)
	size := 0
	for i, p := range parts {
		for _, rr := range append(p.expects[:len(p.expects):len(p.expects)], p.does...) {
			size += dns.Len(rr)
		}
		if i > 0 && size > mostBytes {
			return parts[:i], m
		}
		m.Answer, m.Ns = append(m.Answer, p.expects...), append(m.Ns, p.does...)
	}
	return parts, m
}
