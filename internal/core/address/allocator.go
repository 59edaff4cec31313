package address

import (
	"cmp"
	"errors"
	"hash/fnv"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"go4.org/netipx"

	"mintbatch/internal/core/lookup"
)

type claim struct {
	Holder
	network, pool string
}

func (c claim) compare(o claim) int {
	return cmp.Or(strings.Compare(c.Site, o.Site), strings.Compare(c.Machine, o.Machine), cmp.Compare(c.Adapter, o.Adapter), strings.Compare(c.network, o.network), strings.Compare(c.pool, o.pool))
}

type poolID struct{ network, pool string }

// Allocator knows who holds which address. It is made of what the ledger says; the
// sheet's literal addresses are then claimed, and only after all of those the
// pooled ones drawn, so that no draw takes an address that a row names.
type Allocator struct {
	networks map[string]*holdings
	before   []Reservation
	claims   *lookup.Index[claim] // of those before: what a holder has or, for as long as it is remembered, had
	looked   []bool               // at those before
	cursors  map[poolID]*cursor
}

// holdings are the addresses of one network. They are many, and so kept small.
type holdings struct {
	at      map[[16]byte]int32 // where in entries
	entries []entry
	once    map[netip.Addr]bool // what somebody had
}

// entry is who has an address: a reservation from before, or a holder that got
// it by this book.
type entry struct {
	Holder
	before *Reservation
}

func (b *Allocator) network(name string) *holdings {
	h := b.networks[name]
	if h == nil {
		h = &holdings{at: map[[16]byte]int32{}, once: map[netip.Addr]bool{}}
		b.networks[name] = h
	}
	return h
}

func (h *holdings) get(a netip.Addr) (entry, bool) {
	i, held := h.at[a.As16()]
	if !held {
		return entry{}, false
	}
	return h.entries[i], true
}

// isFree reports whether a holder may have an address: nobody else does.
func (h *holdings) isFree(holder Holder, a netip.Addr) bool {
	now, taken := h.get(a)
	return !taken || now.is(holder) && now.Adapter == holder.Adapter
}

func (h *holdings) set(a netip.Addr, e entry) {
	key := a.As16()
	if i, held := h.at[key]; held {
		h.entries[i] = e
		return
	}
	h.at[key] = int32(len(h.entries))
	h.entries = append(h.entries, e)
}

// NewAllocator opens a book with what is known to be held at a moment.
func NewAllocator(held []Reservation, now time.Time) *Allocator {
	b := &Allocator{networks: map[string]*holdings{}, before: held, looked: make([]bool, len(held)), cursors: map[poolID]*cursor{}}
	b.claims = lookup.New(len(held), func(i int) claim { return claim{held[i].Holder, held[i].Network, held[i].Pool} }, claim.compare)
	for i := range held {
		r := &held[i]
		if r.Blocks(now) {
			b.network(r.Network).set(r.Addr, entry{r.Holder, r})
		} else {
			b.network(r.Network).once[r.Addr] = true
		}
	}
	return b
}

// Assign gives a literal address to the holder. When somebody else has it, that
// is returned and nothing changes.
func (b *Allocator) Assign(h Holder, network string, a netip.Addr) (other Reservation, ok bool) {
	all := b.network(network)
	now, held := all.get(a)
	if held && !now.is(h) {
		return now.reservation(network, a), false
	}
	all.set(a, entry{Holder: h})
	return Reservation{}, true
}

func (e entry) reservation(network string, a netip.Addr) Reservation {
	if e.before != nil {
		return *e.before
	}
	return Reservation{Holder: e.Holder, Network: network, Addr: a, Standing: InUse}
}

// ErrExhausted means that a pool has no address left.
var ErrExhausted = errors.New("no free address is left")

// Allocate gives the holder an address of the pool, and where the pool makes pairs
// the one of the other family that goes with it: what the holder has, else what
// the pool's choice comes to.
func (b *Allocator) Allocate(h Holder, network Network, pool Pool) ([]netip.Addr, error) {
	held := b.network(network.Name)
	if all := b.ownAddresses(h, network, pool, held); all != nil {
		return all, nil
	}
	id := poolID{network.Name, pool.Name}
	cur := b.cursors[id]
	if cur == nil {
		cur = &cursor{pool: pool}
		b.cursors[id] = cur
	}
	if pool.Allocation == Hashed {
		return b.hashed(h, network, pool)
	}
	for {
		a, ok := cur.next()
		if !ok {
			return b.lastAddresses(h, network, pool, cur)
		}
		if pool.Allocation == Sticky && held.once[a] {
			cur.passed = append(cur.passed, a) // for its former holder, while there are others
			continue
		}
		if all, ok := b.allocateAt(h, network, pool, a); ok {
			return all, nil
		}
	}
}

// ownAddresses is what the holder has of the pool already, or had; nil if nothing.
func (b *Allocator) ownAddresses(h Holder, network Network, pool Pool, held *holdings) []netip.Addr {
	for _, named := range []string{pool.Name, ""} { // also what a row has named itself, and now asks a pool for
		for _, i := range b.claims.All(claim{h, network.Name, named}) {
			r := &b.before[i]
			if b.looked[i] || !r.ofMachine() || r.Machine == "" {
				continue
			}
			b.looked[i] = true
			a := r.Addr
			now, taken := held.get(a)
			if !pool.contains(a) || taken && !now.is(h) || !taken && pool.Allocation != Sticky {
				continue // another has it now, or it was had once and the pool does not mind that
			}
			if all, ok := b.allocateAt(h, network, pool, a); ok {
				return all
			}
		}
	}
	return nil
}

// lastAddresses gives what was passed over.
func (b *Allocator) lastAddresses(h Holder, network Network, pool Pool, cur *cursor) ([]netip.Addr, error) {
	for len(cur.passed) > 0 {
		a := cur.passed[0]
		cur.passed = cur.passed[1:]
		if all, ok := b.allocateAt(h, network, pool, a); ok {
			return all, nil
		}
	}
	return nil, ErrExhausted
}

// hashed begins at an address that the machine's name decides, and goes on
// from there.
func (b *Allocator) hashed(h Holder, network Network, pool Pool) ([]netip.Addr, error) {
	size := pool.Size()
	if size == 0 {
		return nil, ErrExhausted
	}
	sum := fnv.New64a()
	_, _ = sum.Write([]byte(h.Site + "\x00" + h.Machine + "\x00" + strconv.Itoa(h.Adapter)))
	start := hash(sum.Sum64()) % size
	for i := range size {
		at := start + i
		if at >= size || at < start {
			at -= size
		}
		if all, ok := b.allocateAt(h, network, pool, pool.at(at)); ok {
			return all, nil
		}
	}
	return nil, ErrExhausted
}

// hash spreads the bits of a hash over all of it.
func hash(x uint64) uint64 {
	x ^= x >> 33
	x *= 0xff51afd7ed558ccd
	return x ^ x>>33
}

// allocateAt gives an address and its pair to the holder, if nobody else has either.
func (b *Allocator) allocateAt(h Holder, network Network, pool Pool, a netip.Addr) ([]netip.Addr, bool) {
	held := b.network(network.Name)
	if !held.isFree(h, a) {
		return nil, false
	}
	all := []netip.Addr{a}
	if pool.Pair {
		other, ok := network.Partner(a)
		if !ok || !held.isFree(h, other) {
			return nil, false
		}
		all = append(all, other)
		held.set(other, entry{Holder: h})
	}
	held.set(a, entry{Holder: h})
	return all, true
}

// Free lists up to n addresses of the network that nobody holds: of its pools,
// else of its first subnet.
func (b *Allocator) Free(network Network, n int) []netip.Addr {
	pools := network.Pools
	if len(pools) == 0 && len(network.Subnets) > 0 {
		whole, err := NewPool("", network, []Range{{netipx.RangeOfPrefix(network.Subnets[0].Masked())}}, nil)
		if err != nil {
			return nil
		}
		pools = []Pool{whole}
	}
	var free []netip.Addr
	for _, p := range pools {
		for c, looked := (cursor{pool: p}), 0; len(free) < n && looked < 10_000; looked++ {
			a, ok := c.next()
			if !ok {
				break
			}
			if _, taken := b.network(network.Name).get(a); !taken {
				free = append(free, a)
			}
		}
	}
	return free
}

// Of lists who holds addresses of a pool, in their order.
func (b *Allocator) Of(network Network, pool Pool) []Reservation {
	held := b.network(network.Name)
	var all []Reservation
	for key, i := range held.at {
		if a := netip.AddrFrom16(key).Unmap(); pool.contains(a) {
			all = append(all, held.entries[i].reservation(network.Name, a))
		}
	}
	slices.SortFunc(all, func(a, b Reservation) int { return a.Addr.Compare(b.Addr) })
	return all
}

// cursor walks a pool upwards once, however many draws are made.
type cursor struct {
	pool   Pool
	i      int
	addr   netip.Addr
	passed []netip.Addr
}

func (c *cursor) next() (netip.Addr, bool) {
	for c.i < len(c.pool.ranges) {
		r := c.pool.ranges[c.i]
		switch {
		case !c.addr.IsValid():
			c.addr = r.From()
		case c.addr == r.To():
			c.i, c.addr = c.i+1, netip.Addr{}
			continue
		default:
			c.addr = c.addr.Next()
		}
		return c.addr, true
	}
	return netip.Addr{}, false
}
