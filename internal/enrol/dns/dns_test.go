package dns

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/enrol"
	"mintbatch/internal/enrol/dnstest"
)

var ledger = uuid.MustParse("5a0c2a44-6c1b-4b1e-9d0f-6c4c6c0f4a11")

func owner(name string) entry.Owner {
	return entry.Owner{Ledger: ledger, Key: machine.Key{Site: "quay", Name: name}}
}

func enter(name string, values ...string) entry.Change {
	host, _, _ := strings.Cut(name, ".")
	return entry.Change{System: "office", Name: name, Want: values, Owner: owner(host), Forgotten: true}
}

// servers runs a test against each server that is installed.
func servers(t *testing.T, test func(t *testing.T, real *dnstest.Server, s *Server)) {
	for name, start := range map[string]func(string, ...string) (*dnstest.Server, error){"BIND": dnstest.BIND, "Knot": dnstest.Knot, "stand-in": dnstest.StandIn} {
		t.Run(name, func(t *testing.T) {
			real, err := start(t.TempDir(), "* IN A 198.51.100.250", "mail IN MX 10 gate", "theirs IN A 198.51.100.9", "bare IN TXT \"a remark\"")
			if errors.Is(err, dnstest.ErrNone) {
				t.Skip(err)
			}
			require.NoError(t, err)
			defer real.Stop()
			s := New(Options{Server: real.Address, Key: dnstest.Key, Algorithm: dnstest.Algorithm, Secret: dnstest.Secret, TTL: time.Hour})
			defer s.Close()
			test(t, real, s)
		})
	}
}

func seen(t *testing.T, s *Server, name string) entry.Seen {
	t.Helper()
	all, err := s.Look(context.Background(), []string{name})
	require.NoError(t, err)
	return all[0]
}

// What is entered is found, changed and taken out again; what others have entered stays to the letter, whatever is asked.
func TestRealServers(t *testing.T) {
	servers(t, func(t *testing.T, real *dnstest.Server, s *Server) {
		ctx := context.Background()
		before, err := real.Dig("brackwater.example", "AXFR")
		require.NoError(t, err)
		require.Contains(t, before, "theirs")
		const name = "bms-tide-01.brackwater.example"
		assert.Empty(t, seen(t, s, name).Values, "a wildcard is no entry of a name")

		c := enter(name, "A 198.51.100.101", "AAAA 2001:db8:b0a7::101", "SSHFP 4 2 "+strings.Repeat("ab", 32))
		require.NoError(t, s.Change(ctx, c))
		require.NoError(t, s.Change(ctx, c), "again changes nothing")
		assert.Equal(t, entry.Seen{Name: name, Values: c.Want, Owner: c.Owner.String()}, seen(t, s, name))
		text, err := real.Dig(name, "SSHFP")
		require.NoError(t, err)
		assert.Contains(t, strings.ToLower(text), strings.Repeat("ab", 32))

		for wanted, reverse := range map[string]string{"101.100.51.198.in-addr.arpa": "101.100.51.198.in-addr.arpa", "9.113.0.203.in-addr.arpa": "9.0/26.113.0.203.in-addr.arpa",
			"1.0.1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.7.a.0.b.8.b.d.0.1.0.0.2.ip6.arpa": "1.0.1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.7.a.0.b.8.b.d.0.1.0.0.2.ip6.arpa"} {
			r := enter(wanted, "PTR "+name)
			require.NoError(t, s.Change(ctx, r))
			text, err := real.Dig(reverse, "PTR")
			require.NoError(t, err)
			assert.Contains(t, text, name, "%s", reverse)
			r.Had, r.Want, r.Was, r.Forgotten = r.Want, nil, r.Owner, false
			require.NoError(t, s.Change(ctx, r))
			assert.Empty(t, seen(t, s, wanted).Values)
		}

		for _, taken := range []string{"theirs", "mail", "bare", "ns1"} {
			err := s.Change(ctx, enter(taken+".brackwater.example", "A 198.51.100.66"))
			assert.ErrorIs(t, err, entry.ErrForeign, taken)
		}
		other := enter(name, "A 198.51.100.66")
		other.Owner = owner("bms-tide-02")
		assert.ErrorIs(t, s.Change(ctx, other), entry.ErrForeign, "of another machine")
		other.Had, other.Want, other.Was = other.Want, nil, other.Owner
		require.NoError(t, s.Change(ctx, other), "there is nothing of its own to take out")
		assert.Len(t, seen(t, s, name).Values, 3)

		require.NoError(t, real.Update("update add "+name+". 300 A 198.51.100.222", "update add "+name+". 300 TXT \"a remark\""))
		c.Had, c.Want, c.Was, c.Forgotten = c.Want, []string{"A 198.51.100.102"}, c.Owner, false
		require.NoError(t, s.Change(ctx, c))
		assert.ElementsMatch(t, []string{"A 198.51.100.102", "A 198.51.100.222"}, seen(t, s, name).Values, "what somebody has added stays")
		c.Had, c.Want = c.Want, nil
		require.NoError(t, s.Change(ctx, c))
		require.NoError(t, s.Change(ctx, c), "it is out already")
		assert.Equal(t, entry.Seen{Name: name, Values: []string{"A 198.51.100.222"}}, seen(t, s, name))
		require.NoError(t, real.Update("update delete "+name+". A", "update delete "+name+". TXT"))

		old, print := "SSHFP 4 2 "+strings.Repeat("cd", 32), "SSHFP 4 2 "+strings.Repeat("ef", 32)
		require.NoError(t, s.Change(ctx, enter(name, "A 198.51.100.101", old)))
		c = enter(name, "A 198.51.100.102", print)
		var found *entry.Unrecorded
		require.ErrorAs(t, s.Change(ctx, c), &found, "a ledger that has lost what it entered does not take it out unseen")
		assert.Equal(t, []string{"A 198.51.100.101", old}, found.Item.Values)
		c.Had, c.Was, c.Forgotten = found.Item.Values, c.Owner, false
		require.NoError(t, s.Change(ctx, c))
		assert.Equal(t, []string{"A 198.51.100.102", print}, seen(t, s, name).Values)
		c.Had, c.Want = c.Want, nil
		require.NoError(t, s.Change(ctx, c))
		after, err := real.Dig("brackwater.example", "AXFR")
		require.NoError(t, err)
		assert.Equal(t, withoutSOA(before), withoutSOA(after))
	})
}

func withoutSOA(zone string) string {
	var lines []string
	for _, l := range strings.Split(zone, "\n") {
		if !strings.Contains(l, "SOA") {
			lines = append(lines, l)
		}
	}
	return strings.Join(lines, "\n")
}

// Many names at once go in few messages, and one that is taken stands in nobody's way.
func TestManyAtOnce(t *testing.T) {
	servers(t, func(t *testing.T, real *dnstest.Server, s *Server) {
		var all sync.WaitGroup
		errs := make([]error, 300)
		for i := range errs {
			all.Go(func() {
				name := fmt.Sprintf("bms-sonar-%03d.brackwater.example", i)
				if i == 7 {
					name = "theirs.brackwater.example"
				}
				errs[i] = s.Change(context.Background(), enter(name, fmt.Sprintf("A 198.51.100.%d", i%200)))
			})
		}
		all.Wait()
		for i, err := range errs {
			if i == 7 {
				assert.ErrorIs(t, err, entry.ErrForeign)
			} else {
				assert.NoError(t, err)
			}
		}
		text, err := real.Dig("brackwater.example", "AXFR")
		require.NoError(t, err)
		assert.Equal(t, 299, strings.Count(text, "mintbatch ledger="))
	})
}

// Wrong keys, zones of others and servers that are down are told as what they are.
func TestRefusals(t *testing.T) {
	servers(t, func(t *testing.T, real *dnstest.Server, s *Server) {
		ctx := context.Background()
		c := enter("bms-tide-01.brackwater.example", "A 198.51.100.101")
		wrong := New(Options{Server: real.Address, Key: dnstest.Key, Algorithm: dnstest.Algorithm, Secret: "AAAA" + dnstest.Secret[4:], TTL: time.Hour})
		err := wrong.Change(ctx, c)
		require.ErrorIs(t, err, enrol.ErrRefused)
		assert.Contains(t, err.Error(), "NOTAUTH")
		unsigned := New(Options{Server: real.Address})
		assert.ErrorIs(t, unsigned.Change(ctx, c), enrol.ErrRefused)
		assert.ErrorIs(t, s.Change(ctx, enter("x.elsewhere.example", "A 198.51.100.101")), enrol.ErrRefused)
		named := New(Options{Server: real.Address, Key: dnstest.Key, Algorithm: dnstest.Algorithm, Secret: dnstest.Secret, Zones: []string{"brackwater.example", "0/26.113.0.203.in-addr.arpa"}})
		require.NoError(t, named.Change(ctx, enter("63.113.0.203.in-addr.arpa", "PTR x.brackwater.example")))
		assert.Error(t, named.Change(ctx, enter("64.113.0.203.in-addr.arpa", "PTR x.brackwater.example")))
		require.NoError(t, s.Change(ctx, c))
		real.Stop()
		assert.ErrorIs(t, s.Change(ctx, c), enrol.ErrUnreachable)
		require.NoError(t, real.Start())
		assert.Equal(t, []string{"A 198.51.100.101"}, seen(t, s, c.Name).Values)
	})
}

// A second server of the zone that has not heard of a change is told.
func TestAllServersAreChecked(t *testing.T) {
	real, err := dnstest.BIND(t.TempDir(), "@ IN NS ns2", "ns2 IN A 127.0.0.2")
	if errors.Is(err, dnstest.ErrNone) {
		t.Skip(err)
	}
	require.NoError(t, err)
	defer real.Stop()
	second := &dns.Server{Handler: dns.HandlerFunc(func(w dns.ResponseWriter, m *dns.Msg) {
		_ = w.WriteMsg(new(dns.Msg).SetReply(m))
	})}
	second.Listener, err = net.Listen("tcp", netip.AddrPortFrom(netip.MustParseAddr("127.0.0.2"), real.Address.Port()).String())
	require.NoError(t, err)
	go func() { _ = second.ActivateAndServe() }()
	s := New(Options{Server: real.Address, Key: dnstest.Key, Algorithm: dnstest.Algorithm, Secret: dnstest.Secret})
	item := entry.Item{Name: "bms-tide-01.brackwater.example", Values: []string{"A 198.51.100.101"}}
	found, err := s.Check(context.Background(), []entry.Item{item})
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"ns2.brackwater.example (127.0.0.2) has no A 198.51.100.101"}}, found)
	require.NoError(t, second.Shutdown())
	found, err = s.Check(context.Background(), []entry.Item{item})
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"ns2.brackwater.example (127.0.0.2) does not answer"}}, found)
}
