package mint

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/pattern"
	"mintbatch/internal/ledger"
)

// ErrNotFound means that nothing is known of what was looked for.
var ErrNotFound = errors.New("nothing is known")

// Found is one thing that is known of an address, a MAC address or a name.
type Found struct {
	Source  string    `json:"source"` // `ledger`, `pool`, `sheet` or `history`
	Site    string    `json:"site,omitempty"`
	Name    string    `json:"name,omitempty"`
	What    string    `json:"what"`
	Since   time.Time `json:"since,omitzero"`
	Until   time.Time `json:"until,omitzero"`
	User    string    `json:"user,omitempty"`
	Address string    `json:"address,omitempty"`
}

// Find says who has an address, a MAC address or a name now, had it before, will have it by
// the sheet, or who holds it; of SITE/NAME only at that site. No site is contacted.
func (d *Desk) Find(ctx context.Context, text string) ([]Found, error) {
	at, name, one := strings.Cut(text, "/")
	if one {
		_, one = d.Setup.Sites[at]
	}
	if !one {
		name = text
	}
	is := wanted(name)
	var all []Found
	known, err := d.Ledger.Machines(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range known {
		if what, found := ofMachine(is, k.Name, k.Spec()); found {
			all = append(all, Found{Source: "ledger", Site: k.Site, Name: k.Name, What: cmp.Or(string(k.State), "made") + ": " + what, Since: k.Changed})
		}
	}
	reserved, err := d.Ledger.Reservations(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range reserved {
		inUse := r.Standing == address.InUse || r.Standing == ""
		if is(r.Addr.String()) && !inUse || is(r.Machine) && r.Standing == address.Cooling {
			what := strings.Join(append([]string{string(r.Standing), "in network " + r.Network}, unlessEmpty(r.Note)...), ", ")
			all = append(all, Found{Source: "pool", Site: r.Site, Name: r.Machine, Address: r.Addr.String(), What: what, Since: r.Since, Until: r.Until})
		}
	}
	for _, w := range d.Wanted {
		if what, found := ofMachine(is, w.Name, w.Spec()); found || slices.ContainsFunc(literals(w), is) {
			all = append(all, Found{Source: "sheet", Site: w.Site, Name: w.Name, What: strings.TrimSuffix(fmt.Sprintf("row %d: %s", w.Row(), what), ": ")})
		}
	}
	events, err := d.Ledger.History(ctx)
	if err != nil {
		return nil, err
	}
	for _, e := range events {
		if is(e.Name) || slices.ContainsFunc(strings.FieldsFunc(e.Detail, func(r rune) bool { return r == ' ' || r == ';' || r == ',' }), is) {
			all = append(all, Found{Source: "history", Site: e.Site, Name: e.Name, What: strings.TrimSuffix(e.What+": "+e.Detail, ": "), Since: e.At, User: e.User})
		}
	}
	if one {
		all = slices.DeleteFunc(all, func(f Found) bool { return f.Site != at })
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%w of %q (%s)", ErrNotFound, text, finding.DidYouMeanOf(text, d.names(known), "mintbatch list"))
	}
	return all, nil
}

// names are those of the sheet and of the ledger.
func (d *Desk) names(known []ledger.Machine) []string {
	var all []string
	for _, w := range d.Wanted {
		all = append(all, w.Name)
	}
	for _, k := range known {
		all = append(all, k.Name)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

func unlessEmpty(s string) []string {
	if s == "" {
		return nil
	}
	return []string{s}
}

// hexMAC is a MAC address in one of the ways that people write it.
var hexMAC = pattern.Lazy(`^[0-9A-Fa-f]{2}([:-]?[0-9A-Fa-f]{2}){5}$|^[0-9A-Fa-f]{4}\.[0-9A-Fa-f]{4}\.[0-9A-Fa-f]{4}$`)

// wanted makes a test of what is looked for: addresses, MAC addresses and names are the same
// however they are written.
func wanted(text string) func(string) bool {
	text = strings.TrimSpace(text)
	if p, err := netip.ParsePrefix(text); err == nil {
		text = p.Addr().String()
	}
	if addr, err := netip.ParseAddr(text); err == nil {
		return func(s string) bool {
			other, err := netip.ParseAddr(s)
			return err == nil && other.Unmap() == addr.Unmap()
		}
	}
	if hexMAC().MatchString(text) {
		bare := func(s string) string {
			return strings.NewReplacer(":", "", "-", "", ".", "").Replace(strings.ToLower(s))
		}
		return func(s string) bool {
			_, err := net.ParseMAC(s)
			return err == nil && bare(s) == bare(text)
		}
	}
	return func(s string) bool { return text != "" && strings.EqualFold(s, text) }
}

// ofMachine reports whether a machine has what is looked for, and what else it has.
func ofMachine(is func(string) bool, name string, s machine.Spec) (what string, found bool) {
	found = is(name) || is(s.Guest.Hostname) || is(s.Guest.FQDN())
	var words []string
	for _, a := range s.Adapters {
		given := a.Words()
		for _, p := range a.Given() {
			given = append(given, p.Addr().String())
		}
		found = found || is(a.MAC) || slices.ContainsFunc(given, is)
		words = append(words, slices.Compact(given)...)
		words = append(words, unlessEmpty(a.MAC)...)
	}
	return strings.Join(words, " "), found
}

// literals are the addresses that a row names.
func literals(w *batch.Wanted) []string {
	var all []string
	for _, wishes := range w.Wishes {
		for _, wish := range wishes {
			all = append(all, wish.Word)
		}
	}
	return all
}
