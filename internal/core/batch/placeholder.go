package batch

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/sheet"
)

// A placeholder is a word in braces: {machine}, {number} as the machine's name
// has it, {index} counted from 1 within the row, or any column. Doubled braces
// stand for themselves; braces around anything else are plain text.
var placeholder = regexp.MustCompile(`\{\{[a-z0-9.]+\}\}|\{[a-z0-9.]+\}`)

// Those columns decide which machine it is, and what its other values are.
var withoutPlaceholders = []string{"machine", "preset", "template", "site", "password", "licence", "keys"}

func takesPlaceholders(id string) bool { return !slices.Contains(withoutPlaceholders, id) }

// longest is how long a cell may become.
const longest = 32767

// replaced replaces the placeholders of a column's text.
func (s *source) replaced(id string, o Origin) string {
	if text, ok := s.known[id]; ok {
		return text
	}
	if slices.Contains(s.within, id) {
		s.tell(o, "the placeholders here refer to each other in a circle", "")
		return ""
	}
	s.within = append(s.within, id)
	text := s.replace(o)
	s.within = s.within[:len(s.within)-1]
	if len(text) > longest {
		s.tell(o, "its placeholders make this cell longer than 32,767 characters", "")
		text = ""
	}
	if s.known == nil {
		s.known = map[string]string{}
	}
	s.known[id] = text
	return text
}

func (s *source) replace(o Origin) string {
	return placeholder.ReplaceAllStringFunc(o.Value, func(word string) string {
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
			number := s.span.Number(s.i)
			if number == "" {
				s.tell(o, fmt.Sprintf("{number} has nothing to stand for: %s has no number", s.name), "give the machine a number, or write {index}")
			}
			return number
		}
		if c, ok := sheet.ParseColumn(name); ok && c.ID() == name && name != "password" && name != "licence" {
			return s.find(name).Value
		}
		s.tell(o, fmt.Sprintf("%s is no placeholder", word), finding.DidYouMean(name, placeholders())+"; {{ and }} write plain braces")
		return ""
	})
}

// tell reports while the batch is built; afterwards it was reported already.
func (s *source) tell(o Origin, message, hint string) {
	if s.bad != nil {
		s.bad("bad-placeholder", o, message, hint)
	}
}

func placeholders() []string {
	return append([]string{"machine", "number", "index"}, sheet.ColumnNames()...)
}
