package mint_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/enrol/dnstest"
	"mintbatch/internal/ledger"
)

// records lists what a server has in all zones, but for what every zone has: `NAME TYPE VALUE`, as the ledger writes it.
func records(t testing.TB, real *dnstest.Server) (all []string, raw []dns.RR) {
	for _, zone := range dnstest.Zones {
		text, err := real.Dig(zone, "AXFR")
		require.NoError(t, err)
		for line := range strings.Lines(text) {
			rr, err := dns.NewRR(line)
			require.NoError(t, err)
			name := strings.TrimSuffix(rr.Header().Name, ".")
			kind := dns.TypeToString[rr.Header().Rrtype]
			if kind == "SOA" || kind == "NS" || strings.HasPrefix(name, "ns1.") || zone == "113.0.203.in-addr.arpa" && kind == "CNAME" {
				continue
			}
			raw = append(raw, rr)
			fields := strings.SplitN(rr.String(), "\t", 5)
			all = append(all, strings.TrimSuffix(strings.ToLower(fmt.Sprint(strings.Replace(name, ".0/26.", ".", 1), " ", kind, " ", fields[4])), "."))
		}
	}
	slices.Sort(all)
	return all, raw
}

// restore brings the zones of a server to some records.
func restore(t testing.TB, real *dnstest.Server, want []dns.RR) {
	_, now := records(t, real)
	for _, zone := range dnstest.Zones {
		in := func(rr dns.RR) bool { return strings.HasSuffix(rr.Header().Name, zone+".") }
		if zone == "113.0.203.in-addr.arpa" || !slices.ContainsFunc(slices.Concat(now, want), in) {
			continue
		}
		lines := []string{"zone " + zone + "."}
		for _, rr := range now {
			if in(rr) {
				lines = append(lines, "update delete "+rr.Header().Name)
			}
		}
		for _, rr := range want {
			if in(rr) {
				lines = append(lines, "update add "+strings.ReplaceAll(rr.String(), "\t", " "))
			}
		}
		require.NoError(t, real.Update(lines...))
	}
}

// enteredIn lists what the ledger of a world says is in its name server.
func (w *world) enteredIn(t testing.TB) (all []string) {
	l, err := ledger.Open(t.Context(), filepath.Join(w.dir, "mintbatch.ledger"))
	require.NoError(t, err)
	defer l.Close()
	entered, err := l.AllEntered(t.Context())
	require.NoError(t, err)
	for _, e := range entered {
		for _, item := range e.Items {
			for _, v := range item.Values {
				all = append(all, strings.ToLower(item.Name+" "+v))
			}
			all = append(all, strings.ToLower(fmt.Sprintf("_mintbatch.%s TXT %q", item.Name, e.Owner)))
		}
	}
	slices.Sort(all)
	return all
}

// Random histories with a real name server: at the end it has what the ledger says, and, unless that was lost meanwhile, nothing else.
func TestRealNameServer(t *testing.T) {
	real, err := dnstest.BIND(t.TempDir())
	if errors.Is(err, dnstest.ErrNone) {
		t.Skip(err)
	}
	require.NoError(t, err)
	defer real.Stop()
	t.Setenv("MINTBATCH_TEST_KEY", dnstest.Secret)
	seed := seedOf(t)
	chance := rand.New(rand.NewPCG(seed, 4))
	fresh := histories(t, chance, func(dir string) {
		path := filepath.Join(dir, "mintbatch.yaml")
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		text = regexp.MustCompile(`server: 127\.0\.0\.1:\d+`).ReplaceAll(text, []byte("server: "+real.Address.String()))
		text = []byte(strings.Replace(string(text), "secret: file:sandbox/dns.key", "secret: env:MINTBATCH_TEST_KEY", 1))
		require.NoError(t, os.WriteFile(path, text, 0o600))
	})
	_, base := records(t, real)
	require.NotEmpty(t, base)
	for round := range amount(1, 2, 300) {
		*chance = *rand.New(rand.NewPCG(seed+uint64(round), 8))
		restore(t, real, base)
		h := fresh()
		h.told = append(h.told, fmt.Sprintf("MINTBATCH_SEED=%d", seed+uint64(round)))
		for range 3 + chance.IntN(8) {
			h.step(t)
		}
		h.settle(t)
		h.stop()
		has, _ := records(t, real)
		if want := h.enteredIn(t); h.forgot { // what was entered for a machine that was never made, is in no ledger then
			require.Subset(t, has, want, strings.Join(h.told, "\n"))
		} else {
			require.Equal(t, want, has, strings.Join(h.told, "\n"))
		}
		_ = os.RemoveAll(h.dir)
	}
}
