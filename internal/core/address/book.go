package address

import (
	"fmt"
	"net/netip"
)

// Holder is one adapter of one machine.
type Holder struct {
	Site    string `json:"site"`
	Machine string `json:"machine"`
	Adapter int    `json:"adapter"` // counted from 1
}

// Reservation is an address that a holder has. An empty pool means that the
// sheet named the address itself.
type Reservation struct {
	Holder
	Network string     `json:"network"`
	Addr    netip.Addr `json:"address"`
	Pool    string     `json:"pool,omitempty"`
}

type place struct {
	network string
	addr    netip.Addr
}

type claim struct {
	Holder
	network, pool string
}

// Book knows who holds which address. It is made of what the ledger says; the
// sheet's literal addresses are then claimed, and only after all of those the
// pooled ones drawn, so that no draw takes an address that a row names.
type Book struct {
	holders map[place]Holder
	kept    map[claim][]netip.Addr
	cursors map[place]*cursor // by network and pool name
}

// NewBook opens a book with the reservations that the ledger holds.
func NewBook(held []Reservation) *Book {
	b := &Book{
		holders: make(map[place]Holder, len(held)),
		kept:    map[claim][]netip.Addr{},
		cursors: map[place]*cursor{},
	}
	for _, r := range held {
		b.holders[place{r.Network, r.Addr}] = r.Holder
		if r.Pool != "" {
			c := claim{r.Holder, r.Network, r.Pool}
			b.kept[c] = append(b.kept[c], r.Addr)
		}
	}
	return b
}

// Claim gives a literal address to the holder. When another machine has it,
// that holder is returned and nothing changes.
func (b *Book) Claim(h Holder, network string, a netip.Addr) (other Holder, ok bool) {
	at := place{network, a}
	if now, held := b.holders[at]; held && (now.Site != h.Site || now.Machine != h.Machine) {
		return now, false
	}
	b.holders[at] = h
	return h, true
}

// Draw gives the holder an address of the pool: the one it has, else the
// lowest that is free.
func (b *Book) Draw(h Holder, network Network, pool Pool) (netip.Addr, error) {
	c := claim{h, network.Name, pool.Name}
	for len(b.kept[c]) > 0 {
		a := b.kept[c][0]
		b.kept[c] = b.kept[c][1:]
		if pool.contains(a) {
			return a, nil
		}
	}
	at := place{network: network.Name + "\x00" + pool.Name}
	cur, ok := b.cursors[at]
	if !ok {
		cur = &cursor{pool: pool}
		b.cursors[at] = cur
	}
	for {
		a, ok := cur.next()
		if !ok {
			return netip.Addr{}, fmt.Errorf("pool %s of network %s has no free address left", pool.Name, network.Name)
		}
		if _, taken := b.holders[place{network.Name, a}]; !taken {
			b.holders[place{network.Name, a}] = h
			return a, nil
		}
	}
}

// Free lists up to n addresses of the network that nobody holds: of its pools,
// else of its first subnet.
func (b *Book) Free(network Network, n int) []netip.Addr {
	pools := network.Pools
	if len(pools) == 0 && len(network.Subnets) > 0 {
		whole, err := NewPool("", network, []string{network.Subnets[0].Masked().String()}, nil)
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
			if _, taken := b.holders[place{network.Name, a}]; !taken {
				free = append(free, a)
			}
		}
	}
	return free
}

// cursor walks a pool upwards once, however many draws are made.
type cursor struct {
	pool Pool
	i    int
	addr netip.Addr
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
