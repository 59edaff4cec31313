package cloudinit

import (
	"fmt"
	"strings"
	"unicode"
)

// The guest reads YAML 1.1, in which an unquoted yes, 012 or 1:30 is no text. YAML
// libraries write plain scalars by the rules of 1.2, so this writer is ours: block mappings
// and sequences, every text in double quotes, or as a literal block where it has lines.

// pair is a key and its value; a mapping is a slice of them, in the order in
// which they are written. Values are string, bool, int, []string, mapping or
// []mapping.
type pair struct {
	key   string
	value any
}

type mapping []pair

// add appends a pair unless the value is empty.
func (m *mapping) add(key string, value any) {
	switch v := value.(type) {
	case string:
		if v == "" {
			return
		}
	case []string:
		if len(v) == 0 {
			return
		}
	case mapping:
		if len(v) == 0 {
			return
		}
	case []mapping:
		if len(v) == 0 {
			return
		}
	}
	*m = append(*m, pair{key, value})
}

// encode writes a document.
func (m mapping) encode() []byte {
	var b strings.Builder
	writeMapping(&b, m, 0, false)
	return []byte(b.String())
}

func writeMapping(b *strings.Builder, m mapping, depth int, inline bool) {
	for i, p := range m {
		if i > 0 || !inline {
			indent(b, depth)
		}
		b.WriteString(p.key + ":")
		writeValue(b, p.value, depth)
	}
}

func writeValue(b *strings.Builder, value any, depth int) {
	switch v := value.(type) {
	case string:
		if isBlock(v) {
			writeBlock(b, v, depth+1)
			return
		}
		b.WriteString(" " + quote(v) + "\n")
	case mapping:
		b.WriteString("\n")
		writeMapping(b, v, depth+1, false)
	case []string:
		b.WriteString("\n")
		for _, s := range v {
			indent(b, depth+1)
			if isBlock(s) {
				b.WriteString("-")
				writeBlock(b, s, depth+2)
			} else {
				b.WriteString("- " + quote(s) + "\n")
			}
		}
	case []mapping:
		b.WriteString("\n")
		for _, m := range v {
			indent(b, depth+1)
			b.WriteString("- ")
			writeMapping(b, m, depth+2, true)
		}
	default: // bool, int
		fmt.Fprintf(b, " %v\n", v)
	}
}

func writeBlock(b *strings.Builder, s string, depth int) {
	b.WriteString(" |\n")
	for line := range strings.Lines(s) {
		indent(b, depth)
		b.WriteString(line)
	}
}

func indent(b *strings.Builder, depth int) { b.WriteString(strings.Repeat("  ", depth)) }

// isBlock reports whether a literal block gives the text back to the letter:
// several lines of printable ASCII, each ended by a line feed, none empty and
// the first, by which the reader knows the indentation, not begun with a blank.
func isBlock(s string) bool {
	if strings.Count(s, "\n") < 2 || !strings.HasSuffix(s, "\n") || strings.HasSuffix(s, "\n\n") {
		return false
	}
	for line := range strings.Lines(s) {
		if strings.TrimSpace(line) == "" {
			return false
		}
	}
	if s[0] == ' ' {
		return false
	}
	return strings.IndexFunc(s, func(r rune) bool { return r != '\n' && (r < ' ' || r > '~') }) < 0
}

// quote writes a double-quoted scalar (YAML 1.1, section 9.1.2). Whatever a
// reader might take for a line break, or refuse as unprintable, is escaped.
func quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == ' ', r > ' ' && r <= 0xffff && unicode.IsPrint(r):
			b.WriteRune(r)
		case r <= 0xff:
			fmt.Fprintf(&b, `\x%02x`, r)
		case r <= 0xffff:
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			fmt.Fprintf(&b, `\U%08x`, r)
		}
	}
	b.WriteByte('"')
	return b.String()
}
