package bench

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/enrol"
	"mintbatch/internal/enrol/dns"
	"mintbatch/internal/enrol/dnstest"
)

// BenchmarkEnrol enters machines in a real BIND, each with its address both ways and its marks, as a run with 64 side by side does,
// beside one nsupdate that has the same records in one file (the yardstick).
func BenchmarkEnrol(b *testing.B) {
	machines := 1000
	if testing.Short() {
		machines = 200
	}
	items := func(net string) (all [][]entry.Item) {
		for i := range machines {
			name := fmt.Sprintf("bms-%s-%04d", net, i)
			m := &machine.Machine{Key: machine.Key{Site: "quay", Name: name}}
			m.Guest.Hostname, m.Guest.Domain = name, "brackwater.example"
			require.NoError(b, addAddress(m, fmt.Sprintf("2001:db8:b0a7::%s:%x/64", net, i+1)))
			all = append(all, entry.Names{System: "office", Reverse: true}.Of(m, ""))
		}
		return all
	}
	owner := entry.Owner{Ledger: uuid.New(), Key: machine.Key{Site: "quay", Name: "bms-sonar-01"}}
	for b.Loop() {
		real, err := dnstest.BIND(b.TempDir())
		if errors.Is(err, dnstest.ErrNone) {
			b.Skip("skipped: named is not installed")
		}
		require.NoError(b, err)
		s := dns.New(dns.Options{Server: real.Address, Key: dnstest.Key, Algorithm: dnstest.Algorithm, Secret: dnstest.Secret, TTL: time.Hour})
		began := time.Now()
		group, ctx := errgroup.WithContext(context.Background())
		group.SetLimit(64)
		for _, of := range items("a") {
			group.Go(func() error {
				return enrol.Make(ctx, func(string) (enrol.System, error) { return s, nil }, entry.Changes(entry.Entered{}, of, owner))
			})
		}
		require.NoError(b, group.Wait())
		ours := time.Since(began)

		byZone := map[bool][]string{}
		for _, of := range items("b") {
			for k, item := range of {
				for _, v := range item.Values {
					byZone[k > 0] = append(byZone[k > 0], fmt.Sprintf("update add %s. 3600 IN %s", item.Name, absolute(v)))
				}
				byZone[k > 0] = append(byZone[k > 0], fmt.Sprintf("update add _mintbatch.%s. 3600 IN TXT %q", item.Name, owner))
			}
		}
		var lines []string
		for _, zone := range [][]string{byZone[false], byZone[true]} {
			for part := range slices.Chunk(zone, 200) { // about as much as a message holds
				lines = append(append(lines, part...), "send")
			}
		}
		began = time.Now()
		require.NoError(b, real.Update(lines...))
		b.ReportMetric(float64(time.Since(began))/float64(ours), "×nsupdate")
		b.ReportMetric(ours.Seconds()*1000/float64(machines), "ms/machine")
		s.Close()
		real.Stop()
	}
}

func addAddress(m *machine.Machine, text string) error {
	p, err := netip.ParsePrefix(text)
	var a machine.Adapter
	a.Addresses = []netip.Prefix{p}
	m.Adapters = []machine.Adapter{a}
	return err
}

// absolute is a value as nsupdate takes it.
func absolute(value string) string {
	if strings.HasPrefix(value, "PTR ") {
		return value + "."
	}
	return value
}
