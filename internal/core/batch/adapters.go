package batch

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/column"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
)

// none is the word by which a cell takes away what an empty one leaves as it is.
const none = "none"

// adapters builds the adapters of a row, up to the first without a network.
func (b *builder) adapters(r *row) []machine.Adapter {
	all := b.room[:0]
	for n := 1; n <= b.most; n++ {
		id := column.ID("network", n)
		name := r.text(id)
		if strings.EqualFold(name, none) && n > 1 {
			break
		}
		if name == "" {
			b.orphans(r, n)
			break
		}
		network, known := b.setup.Networks[name]
		if !known {
			b.bad("unknown-network", r.cell(id), fmt.Sprintf("unknown network %q", name), b.hint("network", name, definedIn(b.setup.Networks)))
		}
		a := machine.Adapter{Card: machine.Card{Network: b.setup.NetworkSource(name), VLAN: network.VLAN, Model: network.Model},
			Interface: machine.Interface{MTU: network.MTU, NoIPv6: network.IPv6 == machine.SwitchOff, Parent: b.parent(r, n, all)}}
		link := column.ID("link", n)
		unplugged, wrong := column.Link(r.text(link))
		for _, p := range wrong {
			b.bad("bad-link", r.cell(link), p.Message, p.Hint)
		}
		a.Unplugged = unplugged
		a.MAC = b.mac(r, n)
		all = append(all, a)
	}
	if b.room = all; len(all) == 0 {
		return nil
	}
	return all
}

func (b *builder) mac(r *row, n int) string {
	id := column.ID("mac", n)
	if r.text(id) == "" {
		return ""
	}
	o := r.cell(id)
	mac, err := machine.ParseMAC(o.Value)
	if err != nil {
		b.bad("bad-mac", o, err.Error(), "write for example 02:00:5e:10:00:01")
	} else if r.isRange() {
		b.bad("bad-mac", o, "a range of machines cannot share one MAC address", "leave it empty: each adapter is assigned its own")
	}
	return mac
}

// parent reads the adapter that another one needs: `1:30` is VLAN 30 on adapter 1,
// `bond:1` its backup.
func (b *builder) parent(r *row, n int, before []machine.Adapter) machine.Parent {
	id := column.ID("parent", n)
	if r.text(id) == "" {
		return machine.Parent{}
	}
	o := r.cell(id)
	bad := func(message string) machine.Parent {
		b.bad("bad-parent", o, message, "write 1:30 for VLAN 30 on adapter 1, or bond:1 for a backup of adapter 1")
		return machine.Parent{}
	}
	first, second, _ := strings.Cut(o.Value, ":")
	var p machine.Parent
	var err error
	if strings.EqualFold(first, "bond") {
		p.Adapter, err = strconv.Atoi(second)
	} else if p.Adapter, err = strconv.Atoi(first); err == nil {
		p.VLAN, err = strconv.Atoi(second)
		if p.VLAN < 1 || p.VLAN > 4094 {
			return bad("a VLAN id must be from 1 to 4094")
		}
	}
	switch {
	case err != nil:
		return bad(fmt.Sprintf("%q does not name a parent adapter", o.Value))
	case p.Adapter < 1 || p.Adapter >= n:
		return bad(fmt.Sprintf("the parent of adapter %d must be an earlier adapter", n))
	case p.Adapter > len(before):
		return p // that one is missing, which is a finding of its own
	case before[p.Adapter-1].Parent != machine.Parent{}:
		return bad(fmt.Sprintf("adapter %d has a parent itself", p.Adapter))
	case p.IsBond() && slices.ContainsFunc(before, func(a machine.Adapter) bool { return a.Parent.IsBond() && a.Parent.Adapter == p.Adapter }):
		return bad(fmt.Sprintf("adapter %d already has a backup adapter", p.Adapter))
	case r.guest() == setup.Windows:
		return bad("VLANs and bonds cannot be configured in a Windows guest")
	}
	return p
}

// orphans reports an address or MAC that belongs to no adapter, and
// adapters left out in the count.
func (b *builder) orphans(r *row, missing int) {
	if len(r.presets) == 0 && r.text("preset") != "" {
		return // the preset, had it been found, may name the network
	}
	for n := missing; n <= b.most; n++ {
		for _, name := range []string{"network", "address", "mac", "link", "parent"} {
			given, id := column.ID(name, n), column.ID("network", missing)
			if r.text(given) == "" {
				continue
			}
			o := r.cell(given)
			if o.From != "row" && n == missing && missing == 1 {
				continue
			}
			b.bad("missing-network", o, fmt.Sprintf("%s is given but %s is not", given, id), "name the network in the column "+id)
		}
	}
}

// wishes reads the address cells of a machine, which has a place in its row. What asks
// for no certain address is read once for all rows.
func (b *builder) wishes(r *row, place int, adapters []machine.Adapter) [][]Wish {
	all := make([][]Wish, len(adapters))
	for i, a := range adapters {
		id := column.ID("address", i+1)
		text, usual := r.text(id), !a.Parent.IsBond() && !a.NoIPv6
		if shared, known := b.asked[text]; known && usual {
			all[i] = shared
			continue
		}
		wishes, ok := b.addressCell(r.cell(id), place, a)
		all[i] = wishes
		if ok && usual && !slices.ContainsFunc(wishes, func(w Wish) bool { return w.Kind == address.Literal }) {
			b.asked[text] = wishes
		}
	}
	return all
}

// mostWishes is how many words an address cell may have.
const mostWishes = 256

// addressCell reads the words of a cell; ok unless there is something wrong with them.
func (b *builder) addressCell(o Origin, place int, a machine.Adapter) (all []Wish, ok bool) {
	ok = true
	bad := func(message, hint string) {
		b.bad("bad-address", o, message, hint)
		ok = false
	}
	for _, word := range strings.FieldsFunc(o.Value, func(r rune) bool { return strings.ContainsRune(" \t\n,;", r) }) {
		parsed, err := address.ParseWish(word)
		if err == nil {
			parsed, err = parsed.At(place)
		}
		if err != nil {
			bad(err.Error(), "")
			continue
		}
		if len(all) == mostWishes {
			bad(fmt.Sprintf("an adapter has at most %d addresses", mostWishes), "give the others to another adapter, or to another machine")
			break
		}
		if i := slices.IndexFunc(all, func(w Wish) bool { return parsed.Contradicts(w.Wish) }); i >= 0 {
			bad(fmt.Sprintf("%q and %q contradict each other", all[i].Word, word), "remove one of them")
			continue
		}
		all = append(all, Wish{parsed, word})
	}
	if o.Value == "" && !a.Parent.IsBond() {
		all = append(all, Wish{address.Wish{Kind: address.DHCP}, ""})
	}
	for _, w := range all {
		if a.Parent.IsBond() && w.Kind != address.None {
			bad("the second adapter of a bond cannot have its own address", "leave it empty")
		}
		if a.NoIPv6 && (w.Kind == address.DHCP6 || w.Kind == address.SLAAC || w.Kind == address.Literal && w.Addr.Is6()) {
			bad(fmt.Sprintf("%s needs IPv6, which the setup disables on this network", w), "remove it, or remove ipv6: off from the setup")
		}
	}
	return all, ok
}
