package finding

import (
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"
)

// Nearest returns the known name that a misspelt or shortened one most likely
// means, or "" when none is close. Letter case does not count.
func Nearest(word string, known []string) string {
	word = strings.ToLower(word)
	best, bestAt := "", max(2, len(word)/3)+1
	sorted := slices.Sorted(slices.Values(known))
	for _, name := range sorted {
		d := levenshtein.ComputeDistance(word, strings.ToLower(name))
		if len(word) >= 3 && strings.HasPrefix(strings.ToLower(name), word) {
			d = 1
		}
		if d < bestAt && d < len(name) {
			best, bestAt = name, d
		}
	}
	return best
}

// DidYouMean words the hint for a name that is not known: the nearest one, or
// all of them while they are few.
func DidYouMean(word string, known []string) string {
	if n := Nearest(word, known); n != "" {
		return "did you mean " + n + "?"
	}
	if len(known) == 0 {
		return "none is defined"
	}
	sorted := slices.Sorted(slices.Values(known))
	if len(sorted) > 12 {
		return "known: " + strings.Join(sorted[:12], ", ") + ", ..."
	}
	return "known: " + strings.Join(sorted, ", ")
}
