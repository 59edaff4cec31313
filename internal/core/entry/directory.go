package entry

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/notice"
)

// Directory says what of machines is entered in a directory server.
type Directory struct {
	System string
	// Entry is a template of the distinguished name, and Attributes are templates of the values; each line of what they come to is
	// a value, and an empty one is none.
	Entry      string
	Attributes map[string][]string
}

// Of is what is to stand in the directory for a machine.
func (d Directory) Of(m *machine.Machine) (Item, error) {
	data := map[string]any{"machine": notice.About(m, "", 0)}
	name, err := notice.Fill(d.Entry, data, EscapeDN)
	if err != nil {
		return Item{}, err
	}
	item := Item{System: d.System, Name: string(name)}
	if item.Values, err = d.values(data); err != nil {
		return Item{}, err
	}
	if len(item.Values) == 0 {
		return Item{}, errors.New("it has no attributes")
	}
	return item, nil
}

// values are what the templates of the attributes come to.
func (d Directory) values(data map[string]any) (all []string, err error) {
	for _, attribute := range slices.Sorted(maps.Keys(d.Attributes)) {
		for _, text := range d.Attributes[attribute] {
			value, err := notice.Fill(text, data, func(s string) string { return s })
			if err != nil {
				return nil, fmt.Errorf("%s: %w", attribute, err)
			}
			for line := range strings.Lines(string(value)) {
				if line = strings.TrimSpace(line); line != "" && !slices.Contains(all, attribute+": "+line) {
					all = append(all, attribute+": "+line)
				}
			}
		}
	}
	return all, nil
}

// EscapeDN writes a value so that it is one part of a distinguished name (RFC 4514, section 2.4).
func EscapeDN(value string) string {
	var b strings.Builder
	for i := range len(value) {
		switch c := value[i]; {
		case strings.IndexByte(`"+,;<>\\=`, c) >= 0, i == 0 && (c == ' ' || c == '#'), i == len(value)-1 && c == ' ':
			b.WriteByte('\\')
			b.WriteByte(c)
		case c < ' ':
			fmt.Fprintf(&b, `\%02x`, c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}
