package address

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func survey(t *testing.T, ranges, skip []string) (Network, Pool) {
	t.Helper()
	n := Network{Name: "survey",
		Subnets:  []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("2001:db8:b0a7::/64")},
		Gateways: []netip.Addr{netip.MustParseAddr("198.51.100.1")}, DNS: []netip.Addr{netip.MustParseAddr("198.51.100.2")}}
	p, err := NewPool("nodes", n, ranges, skip)
	require.NoError(t, err)
	n.Pools = []Pool{p}
	return n, p
}

func TestParseWish(t *testing.T) {
	for _, s := range []string{"dhcp", "none", "pool", "pool:nodes", "198.51.100.7", "198.51.100.40+", "2001:db8::7"} {
		w, err := ParseWish(s)
		require.NoError(t, err, s)
		assert.Equal(t, s, w.String())
	}
	for _, s := range []string{"", "pool:", "dhcp:x", "198.51.100", "198.51.100.7/24", "fe80::1%eth0", "::ffff:198.51.100.7", "198.051.100.7"} {
		_, err := ParseWish(s)
		assert.ErrorIs(t, err, ErrWish, s)
	}
	w, err := ParseWish("198.51.100.250+")
	require.NoError(t, err)
	tenth, err := w.At(10)
	require.NoError(t, err)
	assert.Equal(t, "198.51.101.4", tenth.String())
	w, _ = ParseWish("255.255.255.255+")
	_, err = w.At(1)
	assert.ErrorIs(t, err, ErrWish)
}

func TestCheckRefusesWhatNoMachineMayHave(t *testing.T) {
	n, _ := survey(t, nil, nil)
	for addr, why := range map[string]string{
		"198.51.100.0": "network address", "198.51.100.255": "broadcast", "198.51.100.1": "gateway", "198.51.100.2": "DNS server",
		"203.0.113.9": "not in network", "2001:db8:b0a7::": "network address",
	} {
		assert.ErrorContains(t, n.Check(netip.MustParseAddr(addr)), why, addr)
	}
	assert.NoError(t, n.Check(netip.MustParseAddr("198.51.100.3")))
	assert.NoError(t, n.Check(netip.MustParseAddr("2001:db8:b0a7::ffff")))
}

func TestPoolLeavesOutWhatIsNotForMachines(t *testing.T) {
	n, p := survey(t, []string{"198.51.100.0/29"}, []string{"198.51.100.4-198.51.100.5"})
	b := NewBook(nil)
	var got []string
	for i := 0; ; i++ {
		a, err := b.Draw(Holder{"quay", fmt.Sprint(i), 1}, n, p)
		if err != nil {
			assert.ErrorContains(t, err, "no free address left")
			break
		}
		got = append(got, a.String())
	}
	assert.Equal(t, []string{"198.51.100.3", "198.51.100.6", "198.51.100.7"}, got)
	_, err := NewPool("x", n, []string{"203.0.113.1-203.0.113.9"}, nil)
	assert.ErrorContains(t, err, "not within the subnet")
	_, err = NewPool("x", n, []string{"198.51.100.9-198.51.100.1"}, nil)
	assert.ErrorContains(t, err, "not a range")
}

// Over random histories: none is given twice, what a machine has it keeps in
// whatever order it comes, and the pool gives exactly as many as it has.
func TestDrawsOverRandomHistories(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 1))
		n, p := survey(t, []string{"198.51.100.10-198.51.100.41"}, nil)
		held := map[Holder]netip.Addr{}
		for range 6 {
			var records []Reservation
			for h, a := range held {
				records = append(records, Reservation{h, n.Name, a, p.Name})
			}
			b := NewBook(records)
			taken := map[netip.Addr]Holder{}
			for _, rec := range records {
				taken[rec.Addr] = rec.Holder
			}
			failed := 0
			wanted := 1 + r.IntN(40)
			for _, i := range r.Perm(wanted) {
				h := Holder{"quay", fmt.Sprintf("m%d", i), 1}
				a, err := b.Draw(h, n, p)
				if err != nil {
					failed++
					continue
				}
				if had, ok := held[h]; ok {
					require.Equal(t, had, a, "seed %d: %v lost its address", seed, h)
				}
				if other, ok := taken[a]; ok {
					require.Equal(t, other, h, "seed %d: %s was given twice", seed, a)
				}
				taken[a], held[h] = h, a
			}
			require.LessOrEqual(t, len(taken), 32)
			if failed > 0 {
				require.Len(t, taken, 32, "seed %d: refused although some were free", seed)
			}
			for h := range held { // some go
				if r.IntN(3) == 0 {
					delete(held, h)
				}
			}
		}
	}
}

func TestClaim(t *testing.T) {
	n, p := survey(t, []string{"198.51.100.10-198.51.100.11"}, nil)
	first, second := Holder{"quay", "a", 1}, Holder{"quay", "b", 1}
	ten := netip.MustParseAddr("198.51.100.10")
	b := NewBook([]Reservation{{first, "survey", ten, ""}})
	_, ok := b.Claim(first, "survey", ten)
	assert.True(t, ok, "its own")
	other, ok := b.Claim(second, "survey", ten)
	assert.False(t, ok)
	assert.Equal(t, first, other)
	a, err := b.Draw(second, n, p)
	require.NoError(t, err)
	assert.Equal(t, "198.51.100.11", a.String(), "a pool does not give what a row has named")
}

func FuzzParseWish(f *testing.F) {
	f.Add("pool:nodes")
	f.Add("198.51.100.40+")
	f.Fuzz(func(t *testing.T, s string) {
		w, err := ParseWish(s)
		if err != nil {
			return
		}
		if again, err := ParseWish(w.String()); err != nil || again != w {
			t.Fatalf("%q reads as %+v and back as %+v (%v)", s, w, again, err)
		}
		_, _ = w.At(1000)
	})
}

func FuzzParseRange(f *testing.F) {
	f.Add("198.51.100.1-198.51.100.9")
	f.Add("2001:db8::/64")
	f.Fuzz(func(_ *testing.T, s string) { _, _ = ParseRange(s) })
}
