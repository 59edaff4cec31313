// Package glob matches the names, globs and ranges of a command line.
package glob

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/pattern"
)

// ErrNoMatch is what every failure of Matcher unwraps to.
var ErrNoMatch = errors.New("no such machine")

// Match reports whether a name is among names, globs and ranges, or there are none.
func Match(globs []string, name string) bool {
	return len(globs) == 0 || slices.ContainsFunc(globs, func(glob string) bool { return match(glob, name) })
}

// Among is Match for many names, one after the other.
func Among(globs []string) func(name string) bool {
	plain, others := map[string]bool{}, []string{}
	for _, glob := range globs {
		if Plain(glob) {
			plain[glob] = true
		} else {
			others = append(others, glob)
		}
	}
	return func(name string) bool {
		return len(globs) == 0 || plain[name] || len(others) > 0 && Match(others, name)
	}
}

// Plain reports whether a text can only be a name.
func Plain(text string) bool { return !strings.ContainsAny(text, `*?[\`) }

func match(glob, name string) bool {
	if Plain(glob) {
		return glob == name
	}
	before, numbers, after, ranges := cut(glob)
	if !ranges {
		ok, _ := path.Match(glob, name)
		return ok
	}
	span, err := machine.ParseSpan(numbers)
	if err != nil {
		return false
	}
	for i := range name {
		if ok, _ := path.Match(before, name[:i]); !ok {
			continue
		}
		for k := i + 1; k <= len(name); k++ {
			if span.Has(name[i:k]) && match(after, name[k:]) {
				return true
			}
		}
	}
	return false
}

// list is what stands in the brackets of a range, as in a sheet: from one number to another, one of which has several digits,
// or words with commas between them. Any other brackets are those of a glob; [0-9] is the same in both.
var list = pattern.Lazy(`^(?:[0-9]+-[0-9]{2,}|[0-9]{2,}-[0-9]+|[^!^\\,][^,]*(?:,[^,]+)+)$`)

// cut finds the first brackets of a range, and what stands before and after them.
func cut(glob string) (before, brackets, after string, found bool) {
	for from := 0; ; {
		open := strings.IndexAny(glob[from:], `[\`)
		if open < 0 {
			return glob, "", "", false
		}
		open += from
		if from = open + 2; glob[open] == '\\' {
			if from > len(glob) {
				return glob, "", "", false
			}
			continue
		}
		n := strings.IndexByte(glob[open:], ']')
		if n < 0 {
			return glob, "", "", false
		}
		from = open + n + 1
		if list().MatchString(glob[open+1 : from-1]) {
			return glob[:open], glob[open:from], glob[from:], true
		}
	}
}

// Valid reports whether a text is a name, a glob or a range.
func Valid(glob string) bool {
	before, brackets, after, ranges := cut(glob)
	_, malformed := path.Match(before, "")
	if malformed != nil || !ranges {
		return malformed == nil
	}
	_, err := machine.ParseSpan(brackets)
	return err == nil && Valid(after)
}

// Unmatched finds a name, glob or range that none of all matches.
func Unmatched(globs, all []string) (glob string, none bool) {
	missing := map[string]bool{}
	for _, glob := range globs {
		if Plain(glob) {
			missing[glob] = true
		}
	}
	for _, name := range all {
		delete(missing, name)
	}
	i := slices.IndexFunc(globs, func(glob string) bool {
		if Plain(glob) {
			return missing[glob]
		}
		return !slices.ContainsFunc(all, func(name string) bool { return match(glob, name) })
	})
	if i < 0 {
		return "", false
	}
	return globs[i], true
}

// Matcher makes a filter of names, globs and ranges; each must match one of all, which are the
// machines in what in names, such as `the ledger`. No glob at all lets everything pass.
func Matcher(globs, all []string, in string) (func(string) bool, error) {
	for _, glob := range globs {
		if !Valid(glob) {
			return nil, fmt.Errorf("%w: %q is not a name, glob or range", ErrNoMatch, glob)
		}
	}
	if glob, none := Unmatched(globs, all); none {
		return nil, fmt.Errorf("%w: %q matches no machine in %s (%s)", ErrNoMatch, glob, in, finding.DidYouMeanOf(glob, all, "mintbatch list"))
	}
	return Among(globs), nil
}

// Keys is Among for machines. SITE/MACHINE, whose two parts may be globs, is that of one site.
func Keys(globs []string) func(machine.Key) bool {
	among := Among(globs)
	if !slices.ContainsFunc(globs, ofSite) {
		return func(key machine.Key) bool { return among(key.Name) }
	}
	return func(key machine.Key) bool { return among(key.Name) || among(key.String()) }
}

// WithoutSites are globs of the names alone.
func WithoutSites(globs []string) []string {
	names := make([]string, len(globs))
	for i, glob := range globs {
		names[i] = glob[strings.LastIndexByte(glob, '/')+1:]
	}
	return names
}

func ofSite(glob string) bool { return strings.Contains(glob, "/") }

// KeyMatcher is Matcher for machines, whose globs are those of Keys.
func KeyMatcher(globs []string, all []machine.Key, in string) (func(machine.Key) bool, error) {
	names := make([]string, 0, len(all))
	for _, key := range all {
		names = append(names, key.Name)
	}
	if slices.ContainsFunc(globs, ofSite) {
		for _, key := range all {
			names = append(names, key.String())
		}
	}
	_, err := Matcher(globs, names, in)
	return Keys(globs), err
}
