package batch

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/pattern"
	"mintbatch/internal/core/sheet"
)

// A placeholder is a word in braces: {machine}, {number} as the machine's name
// has it, {index} counted from 1 within the row, or any column. Doubled braces
// stand for themselves; braces around anything else are plain text.
var placeholder = pattern.Lazy(`\{\{[a-z0-9.]+\}\}|\{[a-z0-9.]+\}`)

// expands reports whether placeholders in a column are expanded.
func expands(id string) bool {
	name, _, _ := strings.Cut(id, ".")
	c, _ := column.Named(name)
	return !c.Literal
}

// isSecret reports whether a column is never repeated.
func isSecret(id string) bool {
	c, _ := column.Named(id)
	return c.Secret
}

// braced is whatever stands in braces and may be meant as a placeholder.
var braced = pattern.Lazy(`\{+\s*([A-Za-z0-9_. -]+?)\s*\}+`)

// literal warns of a placeholder that stays as it is written: in a column that takes
// none, or written otherwise.
func (s *source) literal(id string, o Origin) {
	if s.warn == nil || s.looked[id] || isSecret(id) || id == "machine" {
		return
	}
	s.looked[id] = true
	seen := map[string]bool{}
	for _, m := range braced().FindAllStringSubmatch(o.Value, -1) {
		if seen[m[0]] {
			continue
		}
		seen[m[0]] = true
		if strings.HasPrefix(m[0], "{{") || placeholder().MatchString(m[0]) && expands(id) {
			continue
		}
		name := strings.ToLower(m[1])
		if c, ok := sheet.ParseColumn(name); ok {
			name = c.ID()
		} else if !slices.Contains(placeholders(), name) {
			continue
		}
		hint := fmt.Sprintf("write the placeholder as {%s}; {{ and }} stand for plain braces", name)
		if !expands(id) {
			hint = "the column " + id + " does not expand placeholders"
		}
		s.warn("literal-placeholder", o, fmt.Sprintf("%s is kept as literal text", m[0]), hint)
	}
}

// longest is how long a cell may become.
const longest = 32767

// expanded is a column's text with its placeholders expanded.
func (s *source) expanded(id string, o Origin) string {
	if s.expansion == nil {
		s.expansion = &expansion{known: map[string]string{}}
	}
	if text, ok := s.known[id]; ok {
		return text
	}
	if slices.Contains(s.within, id) {
		s.describe(o, "the placeholders here refer to each other in a circle", "")
		return ""
	}
	s.within = append(s.within, id)
	text := s.replace(o)
	s.within = s.within[:len(s.within)-1]
	if len(text) > longest {
		s.describe(o, "with its placeholders expanded, the cell is longer than 32,767 characters", "")
		text = ""
	}
	s.known[id] = text
	return text
}

func (s *source) replace(o Origin) string {
	known := map[string]string{} // each is looked up, and reported, once
	return placeholder().ReplaceAllStringFunc(o.Value, func(word string) string {
		text, again := known[word]
		if !again {
			text = s.meant(o, word)
			known[word] = text
		}
		return text
	})
}

// meant is what a placeholder in a cell stands for.
func (s *source) meant(o Origin, word string) string {
	if strings.HasPrefix(word, "{{") {
		return word[1 : len(word)-1]
	}
	name := strings.Trim(word, "{}")
	switch name {
	case "machine":
		s.varies = true
		return s.name
	case "index":
		s.varies = true
		return strconv.Itoa(s.i + 1)
	case "number":
		s.varies = true
		number := s.names().Number(s.i)
		if number == "" {
			s.describe(o, fmt.Sprintf("{number} has no value: the name %s contains no number", s.name), "add a number to the name, or use {index}")
		}
		return number
	}
	if c, ok := sheet.ParseColumn(name); ok && c.ID() == name && !isSecret(name) {
		return s.find(name).Value
	}
	s.describe(o, fmt.Sprintf("unknown placeholder %s", word), finding.DidYouMean(name, placeholders())+"; {{ and }} stand for plain braces")
	return ""
}

// describe reports while the batch is built; afterwards it was reported already.
func (s *source) describe(o Origin, message, hint string) {
	if s.bad != nil {
		s.bad("bad-placeholder", o, message, hint)
	}
}

func placeholders() []string {
	return append([]string{"machine", "number", "index"}, column.Names()...)
}
