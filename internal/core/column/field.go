package column

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"mintbatch/internal/core/machine"
)

// field makes a column of a spec's field; show writes its value.
func field[T any](c Column, at func(*machine.Spec) *T, show func(T) string) Column {
	c.inSheet = true
	c.show = func(s *machine.Spec, _ int) string { return show(*at(s)) }
	c.copy = func(into, from *machine.Spec, _ int) { *at(into) = *at(from) }
	return c
}

// cell is field for a column whose text alone decides the value.
func cell[T any](c Column, at func(*machine.Spec) *T, show func(T) string, parse func(string) (T, []Problem)) Column {
	c = field(c, at, show)
	c.read = func(s *machine.Spec, text string) (wrong []Problem) {
		if c.Clears && strings.EqualFold(text, none) {
			text = ""
		}
		*at(s), wrong = parse(text)
		return wrong
	}
	return c
}

// perAdapter is field for what each adapter has.
func perAdapter[T any](c Column, at func(*machine.Adapter) *T, show func(T) string) Column {
	c.inSheet, c.PerAdapter = true, true
	c.show = func(s *machine.Spec, adapter int) string {
		var a machine.Adapter
		if adapter < len(s.Adapters) {
			a = s.Adapters[adapter]
		}
		return show(*at(&a))
	}
	c.copy = func(into, from *machine.Spec, adapter int) {
		*at(&into.Adapters[adapter]) = *at(&from.Adapters[adapter])
	}
	return c
}

// address is the column of an adapter's addresses, and of how it gets them.
func address(c Column) Column {
	c = perAdapter(c, func(a *machine.Adapter) *machine.Adapter { return a }, func(a machine.Adapter) string {
		return strings.TrimSpace(strings.Join(a.Words(), " ") + " " + list(a.Addresses))
	})
	c.copy = func(into, from *machine.Spec, adapter int) {
		a, b := &into.Adapters[adapter], from.Adapters[adapter]
		a.DHCP, a.DHCP6, a.SLAAC, a.Addresses = b.DHCP, b.DHCP6, b.SLAAC, b.Addresses
	}
	return c
}

// setting is a column that no sheet has.
func (c Column) setting() Column {
	c.inSheet = false
	return c
}

func leaseOf(a *machine.Adapter) *netip.Prefix    { return &a.Lease }
func gatewaysOf(a *machine.Adapter) *[]netip.Addr { return &a.Gateways }
func dnsOf(a *machine.Adapter) *[]netip.Addr      { return &a.DNS }

func plain[T any](v T) string { return fmt.Sprint(v) }

func unlessZero[T comparable](v T) string {
	if v == *new(T) {
		return ""
	}
	return fmt.Sprint(v)
}

func ifValid(p netip.Prefix) string {
	if !p.IsValid() {
		return ""
	}
	return p.String()
}

// words writes a switch by the word for each of its states.
func words(off, on string) func(bool) string {
	return func(is bool) string {
		if is {
			return on
		}
		return off
	}
}

// list joins so that two lists that differ also read differently.
func list[L ~[]T, T any](all L) string {
	words := make([]string, len(all))
	for i, v := range all {
		if words[i] = fmt.Sprint(v); strings.ContainsAny(words[i], `,"`) {
			words[i] = strconv.Quote(words[i])
		}
	}
	return strings.Join(words, ", ")
}

func spaced(words []string) string { return strings.Join(words, " ") }

func labelWords(m map[string]string) string {
	var words []string
	for _, k := range slices.Sorted(maps.Keys(m)) {
		words = append(words, k+"="+m[k])
	}
	return strings.Join(words, " ")
}

func hardware(h *machine.Hardware) string {
	if h == nil {
		return ""
	}
	var words []string
	for _, part := range [][2]string{{"emulator", string(h.Emulator)}, {"arch", h.Arch}, {"machine type", h.Board}, {"cpu", h.CPU},
		{"sockets", unlessZero(h.Sockets)}, {"disk bus", string(h.Bus)}, {"secure boot", string(h.SecureBoot)}, {"tpm", string(h.TPM)}, {"clock", string(h.Clock)}, {"display", string(h.Display)}, {"serial console", string(h.Console)}, {"extra adapters", string(h.Adapters)}} {
		if part[1] != "" {
			words = append(words, part[0]+" "+part[1])
		}
	}
	return strings.Join(words, ", ")
}

// longest is how much of a value is shown, in bytes.
const longest = 400

// brief shows a value in a few words; of a long one, that it is, and its digest.
func brief[T any](v T) string {
	value := reflect.ValueOf(v)
	if !value.IsValid() || value.IsZero() {
		return ""
	}
	var text string
	switch words := any(v).(type) {
	case []string:
		text = list(words)
	case string:
		text = words
	default:
		b, err := json.Marshal(v)
		if err != nil { // only values of our own types, which marshal
			panic(err)
		}
		text = string(b)
	}
	if len(text) > longest {
		text = fmt.Sprintf("%s... (%d characters, digest %.12s)", strings.ToValidUTF8(text[:60], ""), len(text), machine.Digest(v))
	}
	return text
}

// disksShrink reports whether a data disk is removed, or would shrink or move.
func disksShrink(from, to *machine.Spec) bool {
	a, b := from.Shape.Disks, to.Shape.Disks
	if len(b) < len(a) {
		return true
	}
	for i := range a {
		if b[i].Size < a[i].Size || b[i].Store != a[i].Store || b[i].Kind != a[i].Kind {
			return true
		}
	}
	return false
}

// standsAlone reports whether a linked clone becomes a full one.
func standsAlone(from, to *machine.Spec) bool {
	return from.Clone.Kind == machine.Linked && to.Clone.Kind == machine.Full
}
