package dns

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/miekg/dns"

	"mintbatch/internal/enrol"
)

// patience is how long an answer is waited for.
const patience = 10 * time.Second

// silence is for how long nobody else waits for a server that has not answered within that time.
const silence = 30 * time.Second

// fudge is by how many seconds clocks may differ (RFC 8945, section 10).
const fudge = 300

// ask sends the primary a message and returns its answer. Updates are signed, and so has their answer to be.
func (s *Server) ask(ctx context.Context, m *dns.Msg) (*dns.Msg, error) {
	if s.isSilent() {
		return nil, fmt.Errorf("%w: it did not answer within %s", enrol.ErrUnreachable, patience)
	}
	signed := (s.Key != "" || s.Kerberos != nil) && m.Opcode == dns.OpcodeUpdate
	client := dns.Client{Net: "tcp", Timeout: patience, TsigSecret: s.secrets}
	var agreed agreement
	switch {
	case signed && s.Kerberos != nil:
		var err error
		if agreed, err = s.agree(ctx); err != nil {
			return nil, err
		}
		client.TsigProvider = agreed.key
		m.SetTsig(agreed.name, algorithmGSS, fudge, time.Now().Unix())
	case signed:
		m.SetTsig(dns.CanonicalName(s.Key), dns.Fqdn(s.Algorithm), fudge, time.Now().Unix())
	}
	var link *dns.Conn
	select {
	case link = <-s.links:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	reused := link != nil
	reply, err := s.exchange(ctx, client, &link, m)
	if err != nil && reused && !signed && ctx.Err() == nil { // the server may have closed it meanwhile
		reply, err = s.exchange(ctx, client, &link, m)
	}
	s.links <- link
	var slow net.Error
	if errors.As(err, &slow) && slow.Timeout() && ctx.Err() == nil {
		s.mu.Lock()
		s.silent = time.Now()
		s.mu.Unlock()
	}
	if agreed.key != nil && (err != nil && !errors.Is(err, dns.ErrSig) || err == nil && reply.Rcode == dns.RcodeNotAuth) {
		s.forget(agreed.name)
	}
	switch {
	case err != nil && ctx.Err() != nil:
		return nil, ctx.Err()
	case err != nil:
		return nil, fmt.Errorf("%w: %w", enrol.ErrUnreachable, err)
	case signed && reply.Rcode == dns.RcodeSuccess && reply.IsTsig() == nil:
		return nil, fmt.Errorf("%w: its answer is not signed", enrol.ErrUnreachable)
	}
	return reply, nil
}

func (s *Server) isSilent() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return !s.silent.IsZero() && time.Since(s.silent) < silence
}

// exchange sends a message by a connection, and opens it first if there is none. One that has failed is closed.
func (s *Server) exchange(ctx context.Context, client dns.Client, link **dns.Conn, m *dns.Msg) (*dns.Msg, error) {
	if *link == nil {
		c, err := client.DialContext(ctx, s.Server.String())
		if err != nil {
			return nil, err
		}
		*link = c
	}
	// A dns.Conn of its own for each: it would sign a second message as the continuation of the first.
	reply, _, err := client.ExchangeWithConnContext(ctx, m, &dns.Conn{Conn: (*link).Conn})
	if refused := reply != nil && reply.Rcode != dns.RcodeSuccess; err == nil || refused && !errors.Is(err, dns.ErrId) {
		return reply, nil // a refusal need not be signed, as where the server does not know the key
	}
	if reply == nil || !errors.Is(err, dns.ErrSig) {
		_ = (*link).Close()
		*link = nil
	}
	return nil, err
}

// askOnce asks any server a question.
func askOnce(ctx context.Context, at netip.AddrPort, m *dns.Msg) (*dns.Msg, error) {
	ctx, cancel := context.WithTimeout(ctx, patience/3)
	defer cancel()
	client := dns.Client{Net: "tcp"}
	reply, _, err := client.ExchangeContext(ctx, m, at.String())
	return reply, err
}

// refusal says in the server's words why it did not do what it was asked.
func refusal(reply *dns.Msg) error {
	word := dns.RcodeToString[reply.Rcode]
	if t := reply.IsTsig(); t != nil && t.Error != 0 {
		word += ", " + dns.RcodeToString[int(t.Error)]
	}
	if reply.Rcode == dns.RcodeServerFailure {
		return fmt.Errorf("%w: the server answers %s", enrol.ErrUnreachable, word)
	}
	return fmt.Errorf("%w: the server answers %s", enrol.ErrRefused, word)
}
