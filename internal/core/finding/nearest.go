package finding

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/agnivade/levenshtein"
)

// Nearest returns the known name that a misspelt or shortened one most likely
// means, or "" when none is close. Letter case does not count. A full domain name means the name before its first dot.
func Nearest(word string, known []string) string {
	word = strings.ToLower(word)
	best, bestAt := "", max(2, len(word)/3)+1
	sorted := slices.Compact(slices.Sorted(slices.Values(known)))
	label, _, _ := strings.Cut(word, ".")
	letters := utf8.RuneCountInString(word)
	for _, name := range sorted {
		lower := strings.ToLower(name)
		if more := letters - utf8.RuneCountInString(name); more >= bestAt && label != lower {
			continue // so many letters at least would have to go
		}
		d := levenshtein.ComputeDistance(word, lower)
		if len(word) >= 3 && strings.HasPrefix(lower, word) || label == lower {
			d = min(d, 1)
		}
		if d < bestAt && d < len(name) {
			best, bestAt = name, d
		}
	}
	return best
}

// DidYouMean words the hint for a name that is not known: the nearest one, or
// all of them while they are not too many to be read.
func DidYouMean(word string, known []string) string {
	return DidYouMeanOf(word, known, "")
}

// DidYouMeanOf is DidYouMean for names that a command lists, which is named where they
// are too many.
func DidYouMeanOf(word string, known []string, lister string) string {
	if n := Nearest(word, known); n != "" {
		return "did you mean " + n + "?"
	}
	if len(known) == 0 {
		return "known: none"
	}
	sorted := slices.Compact(slices.Sorted(slices.Values(known)))
	switch {
	case len(sorted) > 12 && lister != "":
		return "`" + lister + "` lists them"
	case len(sorted) > 60:
		return fmt.Sprintf("%d are known, from %s to %s", len(sorted), sorted[0], sorted[len(sorted)-1])
	}
	return "known: " + strings.Join(sorted, ", ")
}
