package mint

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
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/ledger"
)

// PoolView is a pool and who has what of it.
type PoolView struct {
	Network      string                   `json:"network"`
	Pool         string                   `json:"pool"`
	Choice       address.Choice           `json:"choice"`
	Ranges       []string                 `json:"ranges"`
	Size         uint64                   `json:"size"`
	Free         uint64                   `json:"free"`
	Counts       map[address.Standing]int `json:"counts"`
	Reservations []address.Reservation    `json:"reservations,omitempty"`

	pool address.Pool
}

// Each walks the addresses of the pool, at most so many, with who has them.
func (v PoolView) Each(most int, show func(netip.Addr, address.Standing)) {
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

// Pools looks into the pools whose names, or network/name, match one of the
// globs, or into all.
func (s *Session) Pools(ctx context.Context, globs []string) ([]PoolView, error) {
	held, err := s.Ledger.Reservations(ctx)
	if err != nil {
		return nil, err
	}
	book := address.NewBook(held, time.Now())
	networks := s.Setup.AddressNetworks()
	var all []PoolView
	var names []string
	for _, name := range setup.Names(networks) {
		n := networks[name]
		for _, p := range n.Pools {
			v := PoolView{Network: name, Pool: p.Name, Choice: p.Choice, Size: p.Size(), Reservations: book.Of(n, p), pool: p}
			v.Counts = address.Count(v.Reservations)
			v.Free = v.Size
			for _, count := range v.Counts {
				v.Free -= uint64(count)
			}
			for _, r := range p.Ranges() {
				v.Ranges = append(v.Ranges, r.String())
			}
			all = append(all, v)
			names = append(names, p.Name, name+"/"+p.Name)
		}
	}
	keep, err := Matcher(globs, names)
	if err != nil {
		return nil, fmt.Errorf("%w: %s", ErrNoPool, finding.DidYouMean(strings.Join(globs, " "), names))
	}
	return slices.DeleteFunc(all, func(v PoolView) bool { return !keep(v.Pool) && !keep(v.Network+"/"+v.Pool) }), nil
}

// ErrNoPool means that a name on the command line is that of no pool.
var ErrNoPool = errors.New("no such pool")

// ErrAddress is what every refusal of an address on the command line, or of a
// list, unwraps to.
var ErrAddress = errors.New("the address is refused")

// Hold keeps addresses, or ranges of them, from being given out. An empty
// network means the one whose subnet has them.
func (s *Session) Hold(ctx context.Context, words []string, network, note string, until time.Time) (int, error) {
	at, err := s.addressing(network)
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
	if err := s.Ledger.Keep(ctx, all); err != nil {
		return 0, s.heldBy(ctx, err, all)
	}
	return len(all), s.noted(ctx, "held", strings.Join(words, " ")+"; "+note)
}

// heldBy tells by whom an address is held that could not be.
func (s *Session) heldBy(ctx context.Context, err error, wanted []ledger.Reservation) error {
	if !errors.Is(err, ledger.ErrHeld) {
		return err
	}
	held, failed := s.Ledger.Reservations(ctx)
	if failed != nil {
		return failed
	}
	for _, w := range wanted {
		for _, h := range held {
			if h.Network == w.Network && h.Addr == w.Addr && h.Blocks(time.Now()) {
				return fmt.Errorf("%w: %s of network %s is %s; nothing was done", ErrAddress, w.Addr, w.Network, h)
			}
		}
	}
	return err
}

// addressing is the networks that addresses on a command line may be of.
type addressing struct {
	only     string // empty for all
	networks map[string]address.Network
}

func (s *Session) addressing(network string) (addressing, error) {
	at := addressing{network, s.Setup.AddressNetworks()}
	if _, known := at.networks[network]; network != "" && !known {
		return at, fmt.Errorf("%w: no network %q (%s)", ErrAddress, network, finding.DidYouMean(network, setup.Names(at.networks)))
	}
	return at, nil
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
			return nil, fmt.Errorf("%w: %s is more than %d addresses; leave them out of the pool in the setup, with skip", ErrAddress, word, mostHeld)
		}
		if a == r.To() {
			return all, nil
		}
	}
}

// find tells of which network and pool an address is that machines may have.
func (at addressing) find(a netip.Addr) (ledger.Reservation, error) {
	var why error
	for _, name := range setup.Names(at.networks) {
		if at.only != "" && name != at.only {
			continue
		}
		err := at.networks[name].Check(a)
		if err == nil {
			return ledger.Reservation{Network: name, Addr: a, Pool: at.networks[name].PoolOf(a)}, nil
		}
		why = err
	}
	if at.only != "" {
		return ledger.Reservation{}, fmt.Errorf("%w: %w", ErrAddress, why)
	}
	return ledger.Reservation{}, fmt.Errorf("%w: %s is of no network of the setup, or no machine may have it", ErrAddress, a)
}

// FreeAddresses gives back addresses that are held by hand, imported, cooling or
// reserved; what a machine has is given back when it is retired.
func (s *Session) FreeAddresses(ctx context.Context, words []string, network string) (int, error) {
	at, err := s.addressing(network)
	if err != nil {
		return 0, err
	}
	freed := 0
	for _, word := range words {
		all, err := at.expanded(word)
		if err != nil {
			return freed, err
		}
		was, err := s.Ledger.Free(ctx, all, address.Held, address.Imported, address.Cooling, address.Reserved)
		if err != nil {
			return freed, err
		}
		if freed += len(was); len(was) == 0 {
			if err := s.heldBy(ctx, ledger.ErrHeld, all[:1]); errors.Is(err, ErrAddress) {
				return freed, err
			}
			return freed, fmt.Errorf("%w: nothing of %s is held, imported, cooling or reserved", ErrAddress, word)
		}
	}
	return freed, s.noted(ctx, "freed", strings.Join(words, " "))
}

// ImportAddresses keeps the addresses of a list from being given out: CSV with a
// column `address` and perhaps one `note`, or without headings the address
// first; or JSON, a list of addresses or of objects with these keys. Those that
// are kept already are passed over, and told.
func (s *Session) ImportAddresses(ctx context.Context, path, network string) (imported int, kept []string, err error) {
	content, err := os.ReadFile(path)
	if err != nil {
		return 0, nil, err
	}
	list, err := readList(path, content)
	if err != nil {
		return 0, nil, err
	}
	at, err := s.addressing(network)
	if err != nil {
		return 0, nil, err
	}
	held, err := s.Ledger.Reservations(ctx)
	if err != nil {
		return 0, nil, err
	}
	book := address.NewBook(held, time.Now())
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
		if _, free := book.Claim(address.Holder{}, r.Network, a); !free {
			kept = append(kept, item.Address)
			continue
		}
		r.Standing, r.Note = address.Imported, item.Note
		all = append(all, r)
	}
	if err := s.Ledger.Keep(ctx, all); err != nil {
		return 0, kept, s.heldBy(ctx, err, all)
	}
	imported = len(all)
	return imported, kept, s.noted(ctx, "imported", fmt.Sprintf("%d addresses of %s", imported, path))
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
func (s *Session) noted(ctx context.Context, what, detail string) error {
	e := ledger.Event{What: what, Detail: strings.TrimSuffix(detail, "; ")}
	e.User, e.Host = operator()
	return s.Ledger.Note(ctx, e)
}

// Reserve keeps the addresses of the machines that are new in a proof, which was
// made while the ledger was held. It returns how many machines these are.
func (s *Session) Reserve(ctx context.Context, p proof.Proof) (machines int, err error) {
	for _, w := range p.Works {
		reserved := slices.Clone(s.reserved[w.Key])
		if w.Word != proof.New || len(reserved) == 0 {
			continue
		}
		for i := range reserved {
			reserved[i].Standing = address.Reserved
		}
		if err := s.Ledger.Reserve(ctx, w.Key, reserved); err != nil {
			return machines, err
		}
		machines++
	}
	return machines, nil
}
