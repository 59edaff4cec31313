package dns

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/miekg/dns"

	"mintbatch/internal/enrol"
	"mintbatch/internal/enrol/kerberos"
)

// agreement is a key that was agreed on with the primary (RFC 3645).
type agreement struct {
	name string
	key  *kerberos.Context
	at   time.Time
}

// longestUse is for how long a key is used that was agreed on.
const longestUse = 30 * time.Minute

// gssapi is the mode of a TKEY record that carries a token (RFC 2930, section 2.5).
const gssapi = 3

// agree returns the key that updates are signed with, and agrees on one first if there is none.
func (s *Server) agree(ctx context.Context) (agreement, error) {
	s.agreeing.Lock()
	defer s.agreeing.Unlock()
	if s.agreed.key != nil && time.Since(s.agreed.at) < longestUse {
		return s.agreed, nil
	}
	var signature unread
	made := agreement{name: uuid.NewString() + "." + dns.CanonicalName(s.Kerberos.Host), at: time.Now()}
	var err error
	made.key, err = s.Kerberos.Agree("DNS/"+s.Kerberos.Host, func(token []byte) ([]byte, error) {
		m := new(dns.Msg).SetQuestion(made.name, dns.TypeTKEY)
		m.Question[0].Qclass = dns.ClassANY
		now := uint32(made.at.Unix())
		m.Extra = []dns.RR{&dns.TKEY{Hdr: dns.RR_Header{Name: made.name, Rrtype: dns.TypeTKEY, Class: dns.ClassANY}, Algorithm: algorithmGSS, Mode: gssapi,
			Inception: now, Expiration: now + uint32(2*longestUse/time.Second), KeySize: uint16(len(token)), Key: hex.EncodeToString(token)}}
		client := dns.Client{Net: "tcp", Timeout: patience, TsigProvider: &signature}
		reply, _, err := client.ExchangeContext(ctx, m, s.Server.String())
		if err != nil {
			return nil, fmt.Errorf("%w: %w", enrol.ErrUnreachable, err)
		}
		if reply.Rcode != dns.RcodeSuccess {
			return nil, refusal(reply)
		}
		for _, rr := range reply.Answer {
			if t, is := rr.(*dns.TKEY); is {
				if t.Error != 0 {
					return nil, fmt.Errorf("%w: the server answers %s", enrol.ErrRefused, dns.RcodeToString[int(t.Error)])
				}
				return hex.DecodeString(t.Key)
			}
		}
		return nil, fmt.Errorf("%w: its answer has no key", enrol.ErrUnreachable)
	})
	if err == nil && signature.by != nil {
		err = made.key.Verify(signature.message, signature.by)
	}
	if err != nil {
		return agreement{}, fmt.Errorf("agree on a key with %s: %w", s.Kerberos.Host, err)
	}
	s.agreed = made
	return made, nil
}

// unread keeps the signature of an answer that has the key by which it is signed.
type unread struct {
	message []byte
	by      *dns.TSIG
}

// Generate implements dns.TsigProvider.
func (*unread) Generate([]byte, *dns.TSIG) ([]byte, error) { return nil, dns.ErrSecret }

// Verify implements dns.TsigProvider.
func (u *unread) Verify(message []byte, by *dns.TSIG) error {
	u.message, u.by = bytes.Clone(message), by
	return nil
}

// algorithmGSS is the name of the algorithm of agreed keys.
const algorithmGSS = "gss-tsig."

// forget has another key agreed on: the server does not know this one any more.
func (s *Server) forget(name string) {
	s.agreeing.Lock()
	defer s.agreeing.Unlock()
	if s.agreed.name == name {
		s.agreed = agreement{}
	}
}
