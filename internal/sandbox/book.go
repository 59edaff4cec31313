package sandbox

import (
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"sync"
)

// book is the stand-in for an address book (docs/address-book.yaml).
type book struct {
	path string

	mu       sync.Mutex
	reserved map[netip.Addr]reservedAddress
}

type reservedAddress struct {
	Address netip.Addr `json:"address"`
	ID      string     `json:"id"`
	Name    string     `json:"name,omitempty"`
}

func (s *Sandbox) openBook() error {
	b := &book{path: s.path("book.json"), reserved: map[netip.Addr]reservedAddress{}}
	text, err := os.ReadFile(b.path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	var all []reservedAddress
	if err == nil {
		err = json.Unmarshal(text, &all)
	} else {
		err = nil
	}
	for _, r := range all {
		b.reserved[r.Address] = r
	}
	s.book = b
	return err
}

// serveBook answers for the addresses.
func (s *Sandbox) serveBook(w http.ResponseWriter, r *http.Request) {
	var body any
	var err error
	switch {
	case !s.admitted(r):
		err = refuse(http.StatusUnauthorized, "the bearer token is missing or wrong; it is in the sandbox's folder")
	case r.Method != http.MethodGet && s.options.Faults.strike("refuse-book"):
		err = refuse(http.StatusServiceUnavailable, "refused (simulated by --fault)")
	default:
		body, err = s.book.answer(r)
		if err == nil && r.Method != http.MethodGet && s.options.Faults.strike("lose-book") {
			panic(http.ErrAbortHandler)
		}
	}
	write(w, body, err)
}

func (b *book) answer(r *http.Request) (any, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if r.PathValue("address") == "" {
		return map[string]any{"addresses": b.list()}, nil
	}
	a, err := netip.ParseAddr(r.PathValue("address"))
	if err != nil {
		return nil, refuse(http.StatusNotFound, "%s", err)
	}
	has, taken := b.reserved[a]
	id := r.URL.Query().Get("id")
	var asked reservedAddress
	if r.Method == http.MethodPut {
		if err := json.NewDecoder(r.Body).Decode(&asked); err != nil || asked.ID == "" {
			return nil, refuse(http.StatusBadRequest, "the body needs an id")
		}
		id = asked.ID
	}
	switch {
	case r.Method != http.MethodPut && !taken:
		return nil, refuse(http.StatusNotFound, "%s is not reserved", a)
	case r.Method == http.MethodGet:
		return has, nil
	case taken && has.ID != id:
		return nil, refuse(http.StatusConflict, "%s is reserved for %s", a, has.Name)
	case r.Method == http.MethodDelete:
		delete(b.reserved, a)
	default:
		has = reservedAddress{a, id, asked.Name}
		b.reserved[a] = has
	}
	return has, b.keep()
}

func (b *book) list() []reservedAddress {
	all := slices.AppendSeq([]reservedAddress{}, maps.Values(b.reserved))
	slices.SortFunc(all, func(x, y reservedAddress) int { return x.Address.Compare(y.Address) })
	return all
}

// keep writes all down, whole or not at all.
func (b *book) keep() error {
	text, err := json.MarshalIndent(b.list(), "", " ")
	if err == nil {
		err = os.WriteFile(b.path+".new", append(text, '\n'), 0o600)
	}
	if err == nil {
		err = os.Rename(b.path+".new", b.path)
	}
	return err
}
