package batch_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/assign"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// Random pools, sheets and histories of them: rows come, go and change places,
// between mints of all of it. No address or MAC address is ever of two machines,
// a machine that stays keeps what it has, and what a pool lacks is reported exactly.
func TestRandomHistories(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	for round := range uint64(60) {
		history(t, rand.New(rand.NewPCG(seed, round)))
	}
}

// counts of the wishes that a random row may have of each pool.
var poolsOf = map[string][]string{"pool:four": {"four"}, "pool:six": {"six"}, "pool:four pool:six": {"four", "six"}, "dhcp": nil, "literal": nil}

func history(t *testing.T, chance *rand.Rand) {
	sizes := map[string]int{"four": 8 + chance.IntN(60), "six": 8 + chance.IntN(60)}
	choice := []string{"lowest", "sticky", "hashed"}[chance.IntN(3)]
	s, found := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: fmt.Appendf(nil, `mintbatch: 1
sites: {quay: {kind: gateway, url: "https://127.0.0.1:1/quay"}}
templates: {deb12-base: {guest: linux}}
networks: {survey: {subnet: [198.51.100.0/24, "2001:db8:b0a7::/64"], gateway: 198.51.100.1, pools: {
  four: {ranges: 198.51.100.100-198.51.100.%d, allocation: %s}, six: {ranges: "2001:db8:b0a7::100-2001:db8:b0a7::%x", allocation: %s}}}}
defaults: {site: quay, template: deb12-base, network: survey}
`, 99+sizes["four"], choice, 0xff+sizes["six"], choice)})
	require.Empty(t, found)
	sheets := map[string]string{} // the cell of each row's machine
	var order []string
	var held []address.Reservation
	had := map[string][]string{}
	for mint := range 12 {
		for range chance.IntN(14) {
			name := fmt.Sprintf("m%d", chance.IntN(90))
			if _, there := sheets[name]; !there {
				sheets[name] = slices.Sorted(maps.Keys(poolsOf))[chance.IntN(len(poolsOf))]
				order = append(order, name)
			}
		}
		order = slices.DeleteFunc(order, func(name string) bool {
			gone := chance.IntN(8) == 0
			if gone { // its row is deleted and it is retired
				delete(sheets, name)
				delete(had, name)
				held = slices.DeleteFunc(held, func(r address.Reservation) bool { return r.Machine == name })
			}
			return gone
		})
		chance.Shuffle(len(order), func(i, j int) { order[i], order[j] = order[j], order[i] })
		rows := "machine,address\n"
		wanted := map[string]int{}
		for _, name := range order {
			cell := strings.Replace(sheets[name], "literal", "198.51.100."+strings.TrimPrefix(name, "m"), 1)
			if cell == "198.51.100.0" || cell == "198.51.100.1" {
				cell = "none"
			}
			rows += name + "," + cell + "\n"
			for _, pool := range poolsOf[sheets[name]] {
				wanted[pool]++
			}
		}
		table, found := sheet.Read(sheet.Source{Name: "m.csv", Content: []byte(rows)})
		require.Zero(t, found.Count(finding.Error))
		built, found := batch.Build(table, s)
		require.Empty(t, found)
		past := assign.Past{Ledger: uuid.UUID{15: 1}, Held: held, Now: time.Now()}
		reserved, found := assign.Addresses(built, s, past)
		lacks := 0
		for pool, n := range wanted {
			if over := n - sizes[pool]; over > 0 {
				lacks++
				assert.Contains(t, fmt.Sprint(found), fmt.Sprintf("exhausted: %d addresses", sizes[pool]), "mint %d", mint)
				assert.Contains(t, fmt.Sprint(found), fmt.Sprintf(", %d needed", n), "mint %d", mint)
				assert.Contains(t, fmt.Sprint(found), fmt.Sprintf("extend the pool in the setup by %d", over), "mint %d", mint)
			}
		}
		require.Len(t, found, lacks, "mint %d: %v", mint, found)
		owner := map[netip.Addr]string{}
		macs := map[string]string{}
		now := map[string][]string{}
		for r := range reserved {
			assert.Empty(t, owner[r.Addr], "%s is of %s and of %s", r.Addr, owner[r.Addr], r.Machine)
			owner[r.Addr] = r.Machine
			now[r.Machine] = append(now[r.Machine], r.Addr.String())
		}
		for _, w := range built {
			mac := w.Adapters[0].MAC
			assert.Empty(t, macs[mac])
			macs[mac] = w.Name
		}
		for name, addresses := range had {
			assert.Equal(t, addresses, now[name], "mint %d: %s stays and does not keep its own", mint, name)
		}
		if lacks > 0 {
			continue // refused whole: nothing was minted
		}
		held, had = slices.Collect(reserved), now
	}
}
