// Package pools shows address pools, and holds and frees their addresses.
package pools

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/ledger"
)

// View is a pool and who has what of it.
type View struct {
	Network      string                   `json:"network"`
	Pool         string                   `json:"pool"`
	Allocation   address.Allocation       `json:"allocation"`
	Ranges       []string                 `json:"ranges"`
	Size         uint64                   `json:"size"`
	Free         uint64                   `json:"free"`
	Counts       map[address.Standing]int `json:"counts"`
	Reservations []address.Reservation    `json:"reservations,omitempty"`

	pool address.Pool
}

// Each walks the addresses of the pool, at most so many, with who has them.
func (v View) Each(most int, show func(netip.Addr, address.Standing)) {
	held := map[netip.Addr]address.Standing{}
	for _, r := range v.Reservations {
		held[r.Addr] = r.Standing
	}
	for _, r := range v.pool.Ranges() {
		for a := r.From(); most > 0; a, most = a.Next(), most-1 {
			show(a, held[a])
			if a == r.To() {
				most--
				break
			}
		}
	}
}

// Pools are the address pools of a setup.
type Pools struct {
	Setup  *setup.Setup
	Ledger *ledger.Ledger
	// User and Host are who changes them, for the history.
	User, Host string
}

// List returns the pools whose names, or network/name, match one of the
// globs, or into all.
func (p *Pools) List(ctx context.Context, globs []string) ([]View, error) {
	held, err := p.Ledger.Reservations(ctx)
	if err != nil {
		return nil, err
	}
	book := address.NewAllocator(held, time.Now())
	networks := p.Setup.AddressNetworks()
	var all []View
	var names []string
	for _, name := range setup.Names(networks) {
		n := networks[name]
		for _, pool := range n.Pools {
			v := View{Network: name, Pool: pool.Name, Allocation: pool.Allocation, Size: pool.Size(), Reservations: book.Of(n, pool), pool: pool}
			v.Counts = address.Count(v.Reservations)
			v.Free = v.Size
			for _, count := range v.Counts {
				v.Free -= uint64(count)
			}
			for _, r := range pool.Ranges() {
				v.Ranges = append(v.Ranges, r.String())
			}
			all = append(all, v)
			names = append(names, pool.Name, name+"/"+pool.Name)
		}
	}
	keep, err := glob.Matcher(globs, names, "the setup")
	if err != nil {
		return nil, fmt.Errorf("%w: %s", ErrNoPool, finding.DidYouMean(strings.Join(globs, " "), names))
	}
	return slices.DeleteFunc(all, func(v View) bool { return !keep(v.Pool) && !keep(v.Network+"/"+v.Pool) }), nil
}

// ErrNoPool means that a name on the command line is that of no pool.
var ErrNoPool = errors.New("no such pool")

// ErrAddress is what every refusal of an address on the command line, or of a
// list, unwraps to.
var ErrAddress = errors.New("the address is refused")

// Hold keeps addresses, or ranges of them, from being given out. An empty
// network means the one whose subnet has them.
func (p *Pools) Hold(ctx context.Context, words []string, network, note string, until time.Time) (int, error) {
	at, err := p.addressing(network)
	if err != nil {
		return 0, err
	}
	var all []ledger.Reservation
	for _, word := range words {
		some, err := at.expanded(word)
		if err != nil {
			return 0, err
		}
		all = append(all, some...)
	}
	for i := range all {
		all[i].Standing, all[i].Note, all[i].Until = address.Held, note, until
	}
	if err := p.Ledger.HoldAddresses(ctx, all); err != nil {
		return 0, p.heldBy(ctx, err, all)
	}
	return len(all), p.noted(ctx, "held", strings.Join(words, " ")+"; "+note)
}

// heldBy reports who holds an address that could not be held.
func (p *Pools) heldBy(ctx context.Context, err error, wanted []ledger.Reservation) error {
	if !errors.Is(err, ledger.ErrAddressTaken) {
		return err
	}
	held, failed := p.Ledger.Reservations(ctx)
	if failed != nil {
		return failed
	}
	type place struct {
		network string
		addr    netip.Addr
	}
	holds := map[place]ledger.Reservation{}
	for _, h := range held {
		holds[place{h.Network, h.Addr}] = h
	}
	for _, w := range wanted {
		if h, is := holds[place{w.Network, w.Addr}]; is && h.Blocks(time.Now()) {
			return fmt.Errorf("%w: %s of network %s is %s; nothing was done", ErrAddress, w.Addr, w.Network, h)
		}
	}
	return err
}

// addressing is the networks that addresses on a command line may be of.
type addressing struct {
	only  string // empty for all
	setup *setup.Setup
}

func (p *Pools) addressing(network string) (addressing, error) {
	if _, known := p.Setup.AddressNetworks()[network]; network != "" && !known {
		return addressing{}, fmt.Errorf("%w: no network %q (%s)", ErrAddress, network, finding.DidYouMean(network, setup.Names(p.Setup.AddressNetworks())))
	}
	return addressing{network, p.Setup}, nil
}

// mostHeld bounds what one word on the command line stands for.
const mostHeld = 1 << 16

// expanded finds the network and pool of each address that a word stands for.
func (at addressing) expanded(word string) ([]ledger.Reservation, error) {
	r, err := address.ParseRange(word)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrAddress, err)
	}
	var all []ledger.Reservation
	for a := r.From(); ; a = a.Next() {
		one, err := at.find(a)
		if err != nil {
			return nil, err
		}
		if all = append(all, one); len(all) > mostHeld {
			return nil, fmt.Errorf("%w: %s is more than %d addresses; exclude them from the pool in the setup instead", ErrAddress, word, mostHeld)
		}
		if a == r.To() {
			return all, nil
		}
	}
}

// find returns the network and pool of an address that machines may have.
func (at addressing) find(a netip.Addr) (ledger.Reservation, error) {
	names := at.setup.NetworksAt(a)
	if at.only != "" {
		names = []string{at.only}
	}
	var why error
	for _, name := range names {
		network := at.setup.AddressNetworks()[name]
		if why = network.Check(a); why == nil {
			return ledger.Reservation{Network: name, Addr: a, Pool: network.PoolOf(a)}, nil
		}
	}
	if at.only != "" {
		return ledger.Reservation{}, fmt.Errorf("%w: %w", ErrAddress, why)
	}
	return ledger.Reservation{}, fmt.Errorf("%w: %s is in no network of the setup, or is not a host address", ErrAddress, a)
}

// Free gives back addresses that are held by hand, imported, cooling or
// reserved; what a machine has is given back when it is retired.
func (p *Pools) Free(ctx context.Context, words []string, network string) (int, error) {
	at, err := p.addressing(network)
	if err != nil {
		return 0, err
	}
	freed := 0
	for _, word := range words {
		all, err := at.expanded(word)
		if err != nil {
			return freed, err
		}
		was, err := p.Ledger.Free(ctx, all, address.Held, address.Imported, address.Cooling, address.Reserved)
		if err != nil {
			return freed, err
		}
		if freed += len(was); len(was) == 0 {
			if err := p.heldBy(ctx, ledger.ErrAddressTaken, all[:1]); errors.Is(err, ErrAddress) {
				return freed, err
			}
			return freed, fmt.Errorf("%w: nothing of %s is held, imported, cooling or reserved", ErrAddress, word)
		}
	}
	return freed, p.noted(ctx, "freed", strings.Join(words, " "))
}

// Import keeps the addresses of a list from being given out: CSV with a
// column `address` and perhaps one `note`, or without headings the address
// first; or JSON, a list of addresses or of objects with these keys. Those that
// are kept already are passed over, and reported.
func (p *Pools) Import(ctx context.Context, path, network string) (imported int, kept []string, err error) {
	content, err := os.ReadFile(path)
	if err != nil {
		return 0, nil, err
	}
	list, err := readList(path, content)
	if err != nil {
		return 0, nil, err
	}
	at, err := p.addressing(network)
	if err != nil {
		return 0, nil, err
	}
	held, err := p.Ledger.Reservations(ctx)
	if err != nil {
		return 0, nil, err
	}
	book := address.NewAllocator(held, time.Now())
	var all []ledger.Reservation
	for _, item := range list {
		a, err := netip.ParseAddr(item.Address)
		if err != nil {
			return 0, nil, fmt.Errorf("%w: %s: %q is not an address; nothing was imported", ErrAddress, item.at, item.Address)
		}
		r, err := at.find(a)
		if err != nil {
			return 0, nil, fmt.Errorf("%s: %w; nothing was imported", item.at, err)
		}
		if _, free := book.Assign(address.Holder{}, r.Network, a); !free {
			kept = append(kept, item.Address)
			continue
		}
		r.Standing, r.Note = address.Imported, item.Note
		all = append(all, r)
	}
	if err := p.Ledger.HoldAddresses(ctx, all); err != nil {
		return 0, kept, p.heldBy(ctx, err, all)
	}
	imported = len(all)
	return imported, kept, p.noted(ctx, "imported", fmt.Sprintf("%d addresses of %s", imported, path))
}

type listed struct {
	Address string `json:"address"`
	Note    string `json:"note"`
	at      string
}

// UnmarshalJSON takes an address alone, too.
func (l *listed) UnmarshalJSON(b []byte) error {
	if json.Unmarshal(b, &l.Address) == nil {
		return nil
	}
	type plain listed
	return json.Unmarshal(b, (*plain)(l))
}

func readList(path string, content []byte) ([]listed, error) {
	content = bytes.TrimPrefix(content, []byte("\ufeff"))
	var list []listed
	if trimmed := bytes.TrimSpace(content); bytes.HasPrefix(trimmed, []byte("[")) {
		if err := json.Unmarshal(trimmed, &list); err != nil {
			return nil, fmt.Errorf("%w: %s: not a list of addresses: %w", ErrAddress, path, err)
		}
		for i := range list {
			list[i].at = fmt.Sprintf("%s, item %d", path, i+1)
		}
		return list, nil
	}
	r := csv.NewReader(bytes.NewReader(content))
	r.FieldsPerRecord, r.Comment, r.TrimLeadingSpace = -1, '#', true
	addressAt, noteAt := 0, 1
	for first := true; ; first = false {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return list, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%w: %s: %w", ErrAddress, path, err)
		}
		if i := slices.IndexFunc(row, func(s string) bool { return strings.EqualFold(s, "address") }); first && i >= 0 {
			addressAt, noteAt = i, slices.IndexFunc(row, func(s string) bool { return strings.EqualFold(s, "note") })
			continue
		}
		line, _ := r.FieldPos(0)
		item := listed{at: fmt.Sprintf("%s, line %d", path, line)}
		if addressAt < len(row) {
			item.Address = strings.TrimSpace(row[addressAt])
		}
		if noteAt >= 0 && noteAt < len(row) {
			item.Note = row[noteAt]
		}
		list = append(list, item)
	}
}

// noted writes into the history what was done outside a run.
func (p *Pools) noted(ctx context.Context, what, detail string) error {
	e := ledger.Event{What: what, Detail: strings.TrimSuffix(detail, "; ")}
	e.User, e.Host = p.User, p.Host
	return p.Ledger.Note(ctx, e)
}
