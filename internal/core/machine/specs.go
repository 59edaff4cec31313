package machine

import (
	"encoding/json"
	"slices"
	"strings"
)

// Specs decodes the specs of machines, most of which say nearly what another one of their
// preset says: of these only what differs is decoded, and the rest is in memory once.
type Specs struct {
	known      map[string]knownSpec // by the text of the preset
	all, guest []member             // room for those of the next
}

// knownSpec is a decoded spec without what is its machine's own, with the text that it was decoded from.
type knownSpec struct {
	common     *Spec
	adapters   []Adapter // those of the machine
	all, guest []member
}

// Decode reads a spec from its JSON text, as encoding/json does.
func (d *Specs) Decode(text string, into *Slim) error {
	var plain, guestPlain bool
	d.all, plain = members(text, d.all[:0])
	d.guest, guestPlain = members(valueOf(d.all, "guest"), d.guest[:0])
	plain = plain && guestPlain
	preset := valueOf(d.all, "preset")
	if plain && d.like(d.known[preset], into) {
		return nil
	}
	var whole Spec
	if err := json.Unmarshal([]byte(text), &whole); err != nil {
		return err
	}
	*into = *whole.Slim()
	if plain {
		if d.known == nil {
			d.known = map[string]knownSpec{}
		}
		d.known[preset] = knownSpec{into.common, into.Adapters, slices.Clone(d.all), slices.Clone(d.guest)}
	}
	return nil
}

// like takes a spec for one that is known but for its adapters, what people want to know of it, and its
// host name. It reports false where that is not so.
func (d *Specs) like(known knownSpec, into *Slim) bool {
	if known.common == nil || !slices.EqualFunc(d.all, known.all, sameBut("adapters", "info", "guest")) || !slices.EqualFunc(d.guest, known.guest, sameBut("hostname")) {
		return false
	}
	*into = Slim{common: known.common}
	for _, part := range []struct {
		text string
		into any
	}{{valueOf(d.all, "adapters"), &into.Adapters}, {valueOf(d.all, "info"), &into.Info}, {valueOf(d.guest, "hostname"), &into.Hostname}} {
		if json.Unmarshal([]byte(part.text), part.into) != nil {
			return false
		}
	}
	for i := range min(len(into.Adapters), len(known.adapters)) {
		into.Adapters[i].share(&known.adapters[i])
	}
	return true
}

// share has the lists of an adapter in memory once with those of another one, where they are the same.
func (a *Adapter) share(other *Adapter) {
	a.Gateways, a.DNS = shared(a.Gateways, other.Gateways), shared(a.DNS, other.DNS)
	a.Search, a.Routes = shared(a.Search, other.Search), shared(a.Routes, other.Routes)
}

func shared[T comparable](list, other []T) []T {
	if len(list) > 0 && slices.Equal(list, other) {
		return other
	}
	return list
}

// sameBut compares members, of which some may have other values.
func sameBut(but ...string) func(a, b member) bool {
	return func(a, b member) bool { return a == b || a.name == b.name && slices.Contains(but, a.name) }
}

// member is one of an object, with the JSON text of its value.
type member struct{ name, value string }

// valueOf is the text of a member's value; empty if there is none of that name.
func valueOf(all []member, name string) string {
	for _, m := range all {
		if m.name == name {
			return m.value
		}
	}
	return ""
}

// members appends those of an object as this program writes it: without blanks, and each name
// once, in small letters (else it could be another one's, too). It reports false for any other. The values are not looked at any further.
func members(text string, all []member) ([]member, bool) {
	if text == "" || text[0] != '{' {
		return all, false
	}
	for at := 1; at < len(text); at++ {
		begin, end := at, endOfString(text, at)
		if end < 0 || end+1 >= len(text) || text[end+1] != ':' {
			break
		}
		value := end + 2
		name := text[begin+1 : end]
		if at = endOfValue(text, value); at < 0 || strings.Trim(name, "abcdefghijklmnopqrstuvwxyz_0123456789") != "" || valueOf(all, name) != "" {
			break
		}
		all = append(all, member{name, text[value:at]})
		if text[at] != ',' {
			return all, text[at:] == "}"
		}
	}
	return all, false
}

// endOfString is where the quote stands that ends a string; -1 if none begins or ends.
func endOfString(text string, at int) int {
	if at >= len(text) || text[at] != '"' {
		return -1
	}
	for at++; at < len(text); at++ {
		switch text[at] {
		case '\\':
			at++
		case '"':
			return at
		}
	}
	return -1
}

// endOfValue is where the comma or brace stands behind a value; -1 if there is none.
func endOfValue(text string, at int) int {
	for depth := 0; at < len(text); at++ {
		switch text[at] {
		case '"':
			if at = endOfString(text, at); at < 0 {
				return -1
			}
		case '{', '[':
			depth++
		case '}', ']':
			if depth == 0 {
				return at
			}
			depth--
		case ',':
			if depth == 0 {
				return at
			}
		}
	}
	return -1
}
