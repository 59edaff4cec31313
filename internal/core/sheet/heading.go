package sheet

import (
	"regexp"
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/pattern"
)

// meanings are the columns by their names and headings, folded.
var meanings = func() map[string]string {
	m := map[string]string{}
	for _, c := range column.All() {
		if _, inSheet := column.Named(c.Name); !inSheet {
			continue
		}
		for _, heading := range append([]string{c.Name}, c.Headings...) {
			m[folded(heading)] = c.Name
		}
	}
	return m
}()

// folded is a heading without what does not count, in one Unicode form.
func folded(s string) string {
	if short, ok := foldedASCII(s); ok {
		return short
	}
	return strings.Map(func(r rune) rune {
		if r == '_' || unicode.IsSpace(r) || unicode.In(r, unicode.Pd, unicode.Cf) {
			return -1
		}
		return unicode.ToLower(r)
	}, norm.NFKC.String(strings.TrimSuffix(strings.TrimSpace(s), ":")))
}

// foldedASCII is folded for most texts, of which there may be many.
func foldedASCII(s string) (string, bool) {
	s = strings.TrimSuffix(strings.TrimSpace(s), ":")
	short := make([]byte, 0, 64)
	for i := range len(s) {
		switch c := s[i]; {
		case c >= 0x80:
			return "", false
		case c == '_' || c == '-' || c == ' ' || c >= '\t' && c <= '\r':
		case c >= 'A' && c <= 'Z':
			short = append(short, c+'a'-'A')
		default:
			short = append(short, c)
		}
	}
	return string(short), true
}

// Rule is what the setup says of a heading that a user's own sheet has.
type Rule struct {
	Heading string
	// Column is what it means, or what Fixed is a value of.
	Column Column
	Unit   string // of its bare numbers
	Ignore bool   // the cells below the heading are not read
	// Fixed is the value in every row, whatever the cells say; nil if there is none.
	Fixed *string
	At    finding.Position
}

var (
	unitInBrackets = pattern.Lazy(`^(.*?)\s*[(\[]\s*(?:in\s+)?([A-Za-z]+)\s*[)\]]$`)
	unitBehind     = pattern.Lazy(`^(.*?)[\s,/_]+(?:in\s+)?([A-Za-z]+)$`)
	numberBehind   = pattern.Lazy(`^(.*?)[\s.#_-]*([0-9]+)$`)
)

// ParseColumn reports what a heading means: `Memory (GiB)` is the memory column
// with a unit, `address.2` or `IP 2` that of the second adapter.
func ParseColumn(heading string) (Column, bool) {
	text := strings.TrimSpace(norm.NFKC.String(heading))
	c := Column{Heading: strings.Join(strings.Fields(text), " ")}
	if name, adapter, ok := meaning(text); ok {
		c.Name, c.Adapter = name, adapter
		return c, true
	}
	for _, pattern := range []*regexp.Regexp{unitInBrackets(), unitBehind()} {
		m := pattern.FindStringSubmatch(text)
		if m == nil {
			continue
		}
		name, _, ok := meaning(m[1])
		if _, unit := units[strings.ToLower(m[2])]; ok && unit && (name == "memory" || name == "disk") {
			c.Name, c.Unit = name, m[2]
			return c, true
		}
	}
	return c, false
}

// units are those that a heading may name.
var units = map[string]bool{"mb": true, "mib": true, "m": true, "gb": true, "gib": true, "g": true, "tb": true, "tib": true, "t": true, "kb": true, "kib": true}

// meaning reports the column, and for what belongs to an adapter which one.
func meaning(text string) (name string, adapter int, ok bool) {
	if name, ok = meanings[folded(text)]; ok {
		if c, _ := column.Named(name); c.PerAdapter {
			adapter = 1
		}
		return name, adapter, true
	}
	m := numberBehind().FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return "", 0, false
	}
	name, ok = meanings[folded(m[1])]
	n, err := strconv.Atoi(m[2])
	if c, _ := column.Named(name); !ok || err != nil || !c.PerAdapter || n < 1 || n > column.MaxAdapters || strconv.Itoa(n) != m[2] {
		return "", 0, false
	}
	return name, n, true
}

// longestHeading is how long a heading may be, in bytes; a longer text is no heading.
const longestHeading = 1024

// understand reports what a heading means by the setup's rules, else by itself.
// ignored is set for one that is to be passed over.
func understand(heading string, rules []Rule) (c Column, ignored, ok bool) {
	if len(heading) > longestHeading {
		return Column{Heading: heading[:longestHeading]}, false, false
	}
	for _, r := range rules {
		if folded(r.Heading) != folded(heading) {
			continue
		}
		if r.Ignore {
			return Column{Heading: heading}, true, true
		}
		c = r.Column
		c.Heading = strings.Join(strings.Fields(heading), " ")
		if r.Unit != "" {
			c.Unit = r.Unit
		}
		return c, false, c.Name != ""
	}
	c, ok = ParseColumn(heading)
	return c, false, ok
}
