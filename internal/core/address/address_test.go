package address

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rangesOf reads ranges that are known to be right.
func rangesOf(t testing.TB, texts ...string) (all []Range) {
	t.Helper()
	for _, text := range texts {
		r, err := ParseRange(text)
		require.NoError(t, err)
		all = append(all, r)
	}
	return all
}

func survey(t *testing.T, ranges, exclude []string) (Network, Pool) {
	t.Helper()
	n := Network{Name: "survey",
		Subnets:  []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("2001:db8:b0a7::/64")},
		Gateways: []netip.Addr{netip.MustParseAddr("198.51.100.1")}, DNS: []netip.Addr{netip.MustParseAddr("198.51.100.2")}}
	p, err := NewPool("nodes", n, rangesOf(t, ranges...), rangesOf(t, exclude...))
	require.NoError(t, err)
	n.Pools = []Pool{p}
	return n, p
}

func TestParseWish(t *testing.T) {
	for _, s := range []string{"dhcp", "none", "pool", "pool:nodes", "198.51.100.7", "198.51.100.40+", "2001:db8::7", "dhcp:pool", "dhcp:pool:Desk"} {
		w, err := ParseWish(s)
		require.NoError(t, err, s)
		assert.Equal(t, s, w.String())
	}
	for _, s := range []string{"", "pool:", "dhcp:x", "dhcp:pool:", "dhcp:pool2", "198.51.100", "198.51.100.7/33", "198.51.100.7/0", "fe80::1%eth0", "::ffff:198.51.100.7", "198.051.100.7"} {
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
	b := NewAllocator(nil, time.Time{})
	var got []string
	for i := 0; ; i++ {
		a, err := b.Allocate(Holder{"quay", fmt.Sprint(i), 1}, n, p)
		if err != nil {
			assert.ErrorIs(t, err, ErrExhausted)
			break
		}
		got = append(got, a[0].String())
	}
	assert.Equal(t, []string{"198.51.100.3", "198.51.100.6", "198.51.100.7"}, got)
	_, err := NewPool("x", n, rangesOf(t, "203.0.113.1-203.0.113.9"), nil)
	assert.ErrorContains(t, err, "not within the subnet")
	_, err = ParseRange("198.51.100.9-198.51.100.1")
	assert.ErrorContains(t, err, "not a range")
}

// Over random histories, in either family and by any allocation: none is given
// twice, none that is kept from machines at all, what a machine has it keeps in
// whatever order it comes, what it had it gets again where the pool is sticky
// and it is free, and the pool gives exactly as many as it has.
func TestDrawsOverRandomHistories(t *testing.T) {
	now := time.Date(2026, 11, 27, 17, 0, 0, 0, time.UTC)
	for seed := range uint64(600) {
		r := rand.New(rand.NewPCG(seed, 1))
		ranges := [][]string{{"198.51.100.10-198.51.100.41"}, {"198.51.100.10-198.51.100.19", "198.51.100.50-198.51.100.71"}, {"2001:db8:b0a7::10-2001:db8:b0a7::2f"}}[seed%3]
		n, p := survey(t, ranges, nil)
		p.Allocation = []Allocation{Lowest, Sticky, Hashed}[seed/3%3]
		require.EqualValues(t, 32, p.Size())
		records := map[netip.Addr]Reservation{}
		byHand := p.at(r.Uint64N(32))
		records[byHand] = Reservation{Network: n.Name, Addr: byHand, Standing: Held}
		for range 6 {
			var all []Reservation
			for _, rec := range records {
				all = append(all, rec)
			}
			b := NewAllocator(all, now)
			had, blocked := map[Holder]netip.Addr{}, 0
			for a, rec := range records {
				if rec.Blocks(now) {
					blocked++
				}
				if rec.Machine != "" && (rec.Blocks(now) || p.Allocation == Sticky) {
					had[rec.Holder] = a
				}
			}
			given, failed := map[netip.Addr]Holder{}, 0
			wanted := r.Perm(1 + r.IntN(40))
			for _, i := range wanted {
				h := Holder{"quay", fmt.Sprintf("m%d", i), 1}
				drawn, err := b.Allocate(h, n, p)
				if err != nil {
					require.ErrorIs(t, err, ErrExhausted)
					failed++
					continue
				}
				a := drawn[0]
				rec, known := records[a]
				require.True(t, !known || rec.is(h) || !rec.Blocks(now), "seed %d: %s is kept: %s", seed, a, rec)
				_, twice := given[a]
				require.False(t, twice, "seed %d: %s was given twice", seed, a)
				if old, ok := had[h]; ok && records[old].Blocks(now) {
					require.Equal(t, old, a, "seed %d: %v lost its address", seed, h)
				}
				given[a] = h
			}
			if failed > 0 {
				kept := 0
				for a, rec := range records {
					if _, out := given[a]; !out && rec.Blocks(now) {
						kept++
					}
				}
				require.Equal(t, 32, len(given)+kept, "seed %d: refused although some were free", seed)
			}
			for a, h := range given {
				records[a] = Reservation{Holder: h, Network: n.Name, Addr: a, Pool: p.Name, Standing: InUse}
			}
			now = now.Add(time.Hour)
			for a, rec := range records { // some machines go
				if rec.Machine != "" && rec.Standing == InUse && r.IntN(3) == 0 {
					rec.Standing, rec.Until = Cooling, now.Add(time.Duration(r.IntN(90)-30)*time.Minute)
					records[a] = rec
				}
			}
		}
	}
}

// A machine gets back what it had, even long after, while nobody else needs it.
func TestSticky(t *testing.T) {
	n, p := survey(t, []string{"198.51.100.10-198.51.100.12"}, nil)
	p.Allocation = Sticky
	now := time.Now()
	gone := Reservation{Holder: Holder{"quay", "old", 1}, Network: n.Name, Addr: netip.MustParseAddr("198.51.100.10"), Pool: p.Name, Standing: Cooling, Until: now.Add(-time.Hour)}
	draw := func(b *Allocator, machine string) string {
		a, err := b.Allocate(Holder{"quay", machine, 1}, n, p)
		require.NoError(t, err)
		return a[0].String()
	}
	b := NewAllocator([]Reservation{gone}, now)
	assert.Equal(t, "198.51.100.11", draw(b, "new"), "another is free")
	assert.Equal(t, "198.51.100.10", draw(b, "old"), "its own again")
	b = NewAllocator([]Reservation{gone}, now)
	assert.Equal(t, []string{"198.51.100.11", "198.51.100.12", "198.51.100.10"}, []string{draw(b, "a"), draw(b, "b"), draw(b, "c")}, "the last, rather than none")
}

// Where no machine has an address yet, the name alone decides, whoever else is there.
func TestSpreadIsStable(t *testing.T) {
	n, p := survey(t, []string{"2001:db8:b0a7::/64"}, nil)
	p.Allocation = Hashed
	assert.EqualValues(t, uint64(1)<<63, p.Size())
	alone, err := NewAllocator(nil, time.Time{}).Allocate(Holder{"quay", "x", 1}, n, p)
	require.NoError(t, err)
	b := NewAllocator(nil, time.Time{})
	for i := range 50 {
		_, err := b.Allocate(Holder{"quay", fmt.Sprint(i), 1}, n, p)
		require.NoError(t, err)
	}
	among, err := b.Allocate(Holder{"quay", "x", 1}, n, p)
	require.NoError(t, err)
	assert.Equal(t, alone, among)
	assert.NoError(t, n.Check(alone[0]))
}

func TestPairs(t *testing.T) {
	n, p := survey(t, []string{"198.51.100.10-198.51.100.13"}, nil)
	p.Pair = true
	taken := Reservation{Network: n.Name, Addr: netip.MustParseAddr("2001:db8:b0a7::b"), Standing: Imported}
	b := NewAllocator([]Reservation{taken}, time.Time{})
	var got []string
	for i := range 4 {
		all, err := b.Allocate(Holder{"quay", fmt.Sprint(i), 1}, n, p)
		if err != nil {
			require.ErrorIs(t, err, ErrExhausted)
			break
		}
		got = append(got, fmt.Sprint(all))
	}
	assert.Equal(t, []string{"[198.51.100.10 2001:db8:b0a7::a]", "[198.51.100.12 2001:db8:b0a7::c]", "[198.51.100.13 2001:db8:b0a7::d]"}, got, "one whose pair is taken is passed over")
}

func BenchmarkAllocate(b *testing.B) {
	n := Network{Name: "lab", Subnets: []netip.Prefix{netip.MustParsePrefix("198.18.0.0/15"), netip.MustParsePrefix("2001:db8:b0a7::/64")}}
	for _, c := range []struct{ name, ranges string }{{"v4 of a 15", "198.18.0.0/15"}, {"v6 of a 64", "2001:db8:b0a7::/64"}} {
		p, err := NewPool("all", n, rangesOf(b, c.ranges), nil)
		require.NoError(b, err)
		for _, choice := range []Allocation{Lowest, Sticky, Hashed} {
			p.Allocation = choice
			for _, machines := range []int{10_000, 100_000} {
				holders := make([]Holder, machines)
				for i := range holders {
					holders[i] = Holder{"quay", fmt.Sprintf("bms-sonar-%06d", i), 1}
				}
				b.Run(fmt.Sprintf("%s/%s/machines=%d", c.name, choice, machines), func(b *testing.B) {
					for b.Loop() {
						book := NewAllocator(nil, time.Time{})
						for _, h := range holders {
							if _, err := book.Allocate(h, n, p); err != nil {
								b.Fatal(err)
							}
						}
					}
					b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*machines), "ns/address")
				})
			}
		}
	}
}

func TestClaim(t *testing.T) {
	n, p := survey(t, []string{"198.51.100.10-198.51.100.11"}, nil)
	first, second := Holder{"quay", "a", 1}, Holder{"quay", "b", 1}
	ten := netip.MustParseAddr("198.51.100.10")
	b := NewAllocator([]Reservation{{Holder: first, Network: "survey", Addr: ten}}, time.Time{})
	_, ok := b.Assign(first, "survey", ten)
	assert.True(t, ok, "its own")
	other, ok := b.Assign(second, "survey", ten)
	assert.False(t, ok)
	assert.Equal(t, first, other.Holder)
	a, err := b.Allocate(second, n, p)
	require.NoError(t, err)
	assert.Equal(t, "198.51.100.11", a[0].String(), "a pool does not give what a row has named")
}

func FuzzParseWish(f *testing.F) {
	f.Add("pool:nodes")
	f.Add("198.51.100.40+")
	f.Add("198.51.100.40/24+")
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
