// Package glob matches the names and globs of a command line.
package glob

import (
	"errors"
	"fmt"
	"path"
	"slices"

	"mintbatch/internal/core/finding"
)

// ErrNoMatch is what every failure of Matcher unwraps to.
var ErrNoMatch = errors.New("no such machine")

// Match reports whether a name is among names and globs, or there are none.
func Match(globs []string, name string) bool {
	return len(globs) == 0 || slices.ContainsFunc(globs, func(glob string) bool {
		ok, _ := path.Match(glob, name)
		return ok
	})
}

// Valid reports whether a text is a name or a glob.
func Valid(glob string) bool {
	_, err := path.Match(glob, "")
	return err == nil
}

// Unmatched finds a name or glob that none of all matches.
func Unmatched(globs, all []string) (glob string, none bool) {
	i := slices.IndexFunc(globs, func(glob string) bool {
		return !slices.ContainsFunc(all, func(name string) bool { return Match([]string{glob}, name) })
	})
	if i < 0 {
		return "", false
	}
	return globs[i], true
}

// Matcher makes a filter of names and globs; each must match one of all, which are the
// machines in what in names, such as `the ledger`. No glob at all lets everything pass.
func Matcher(globs, all []string, in string) (func(string) bool, error) {
	if len(globs) == 0 {
		return func(string) bool { return true }, nil
	}
	for _, glob := range globs {
		if !Valid(glob) {
			return nil, fmt.Errorf("%w: %q is not a name or glob", ErrNoMatch, glob)
		}
	}
	if glob, none := Unmatched(globs, all); none {
		return nil, fmt.Errorf("%w: %q matches no machine in %s (%s)", ErrNoMatch, glob, in, finding.DidYouMeanOf(glob, slices.Compact(slices.Sorted(slices.Values(all))), "mintbatch list"))
	}
	return func(name string) bool { return Match(globs, name) }, nil
}
