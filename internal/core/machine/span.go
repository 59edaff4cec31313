package machine

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

// ErrSpan is what every failure of ParseSpan unwraps to.
var ErrSpan = errors.New("not a range of machine names")

// Span is the text of a `machine` cell: one name, or a range of names such as
// `bms-[quay,vessel]-sonar-[01-04]`. It holds the pattern and not the names,
// so that a slip of the keyboard does not fill the memory.
type Span struct {
	parts []part
	count int
}

// part is literal text followed, except in the last part, by a bracket.
type part struct {
	text    string
	choices []choice
}

// choice is a word (width 0) or the numbers from lo to hi, zero-padded to width.
type choice struct {
	word   string
	lo, hi int
	width  int
}

func (c choice) count() int {
	if c.width == 0 {
		return 1
	}
	return c.hi - c.lo + 1
}

// ParseSpan reads a machine cell. The names may be as many as an int can
// count, so a caller asks Count before it walks them.
func ParseSpan(s string) (Span, error) {
	span := Span{count: 1}
	for rest := s; ; {
		text, after, open := strings.Cut(rest, "[")
		if strings.Contains(text, "]") {
			return Span{}, fmt.Errorf("%w: ']' without '['", ErrSpan)
		}
		p := part{text: text}
		if open {
			inside, tail, closed := strings.Cut(after, "]")
			if !closed {
				return Span{}, fmt.Errorf("%w: '[' without ']'", ErrSpan)
			}
			total := 0
			for _, item := range strings.Split(inside, ",") {
				c, err := parseChoice(strings.TrimSpace(item))
				if err != nil {
					return Span{}, err
				}
				p.choices = append(p.choices, c)
				if total > math.MaxInt-c.count() {
					return Span{}, fmt.Errorf("%w: too many names", ErrSpan)
				}
				total += c.count()
			}
			if span.count > math.MaxInt/total {
				return Span{}, fmt.Errorf("%w: too many names", ErrSpan)
			}
			span.count *= total
			rest = tail
		}
		span.parts = append(span.parts, p)
		if !open {
			return span, nil
		}
	}
}

func parseChoice(s string) (choice, error) {
	if s == "" {
		return choice{}, fmt.Errorf("%w: write numbers such as 01-12, or words separated by commas, inside the brackets", ErrSpan)
	}
	if strings.Contains(s, "[") {
		return choice{}, fmt.Errorf("%w: brackets cannot be nested", ErrSpan)
	}
	lo, hi, _ := strings.Cut(s, "-")
	if !isNumber(lo) || !isNumber(hi) {
		return choice{word: s}, nil
	}
	if len(lo) > 9 || len(hi) > 9 {
		return choice{}, fmt.Errorf("%w: too many names", ErrSpan)
	}
	a, _ := strconv.Atoi(lo)
	b, _ := strconv.Atoi(hi)
	if a > b {
		return choice{}, fmt.Errorf("%w: %s counts down; write [%s-%s]", ErrSpan, s, hi, lo)
	}
	return choice{lo: a, hi: b, width: len(lo)}, nil
}

func isNumber(s string) bool { return s != "" && strings.Trim(s, "0123456789") == "" }

// Count reports how many names the span holds; at least 1.
func (s Span) Count() int { return s.count }

// Names lists all of them; ask Count before.
func (s Span) Names() []string {
	all := make([]string, s.Count())
	for i := range all {
		all[i] = s.Name(i)
	}
	return all
}

// Name returns the i-th name, counted from 0 with the last bracket running fastest.
func (s Span) Name(i int) string {
	name, _ := s.at(i)
	return name
}

// Has reports whether the span has a name.
func (s Span) Has(name string) bool { return has(s.parts, name) }

func has(parts []part, name string) bool {
	rest, begins := strings.CutPrefix(name, parts[0].text)
	if !begins || len(parts[0].choices) == 0 {
		return begins && rest == ""
	}
	return slices.ContainsFunc(parts[0].choices, func(c choice) bool {
		if c.width == 0 {
			after, is := strings.CutPrefix(rest, c.word)
			return is && has(parts[1:], after)
		}
		for n := c.width; n <= len(rest) && n <= 10 && isNumber(rest[:n]); n++ {
			i, _ := strconv.Atoi(rest[:n])
			if c.lo <= i && i <= c.hi && c.at(i-c.lo) == rest[:n] && has(parts[1:], rest[n:]) {
				return true
			}
		}
		return false
	})
}

// Number returns the number in the i-th name, as it is written there: of the
// last bracket that counts, else the digits at the name's end. It is empty for
// a name without any.
func (s Span) Number(i int) string {
	name, number := s.at(i)
	if number == "" {
		number = name[len(strings.TrimRight(name, "0123456789")):]
	}
	return number
}

func (s Span) at(i int) (name, number string) {
	for k := len(s.parts) - 1; k >= 0; k-- {
		p := s.parts[k]
		total := 0
		for _, c := range p.choices {
			total += c.count()
		}
		if total == 0 {
			name = p.text + name
			continue
		}
		n := i % total
		i /= total
		for _, c := range p.choices {
			if n < c.count() {
				name = p.text + c.at(n) + name
				if number == "" && c.width > 0 {
					number = c.at(n)
				}
				break
			}
			n -= c.count()
		}
	}
	return name, number
}

func (c choice) at(n int) string {
	if c.width == 0 {
		return c.word
	}
	return fmt.Sprintf("%0*d", c.width, c.lo+n)
}
