// Package filename knows which names every system can give to files.
package filename

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"mintbatch/internal/core/pattern"
)

// Longest is how long a name may be, so that there is room for endings.
const Longest = 200 // bytes

// reserved are names of devices, with any ending.
var reserved = pattern.Lazy(`(?i)^(con|prn|aux|nul|com[0-9¹²³]|lpt[0-9¹²³])(\..*)?$`)

// Check is an error if some system cannot give a file the name.
func Check(name string) error {
	i := strings.IndexFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f || strings.ContainsRune(`<>:"/\|?*`, r) })
	switch {
	case name == "":
		return fmt.Errorf("a file has a name")
	case !utf8.ValidString(name):
		return fmt.Errorf("%q is not text (UTF-8)", name)
	case len(name) > Longest:
		return fmt.Errorf("%q is longer than %d bytes", name, Longest)
	case i >= 0:
		r, _ := utf8.DecodeRuneInString(name[i:])
		return fmt.Errorf("%q contains %q, which is not in the name of a file on every system", name, r)
	case reserved().MatchString(name):
		return fmt.Errorf("%q is the name of a device on some systems", name)
	case strings.HasSuffix(name, ".") || strings.HasSuffix(name, " ") || strings.HasPrefix(name, " ") || strings.HasPrefix(name, "."):
		return fmt.Errorf("%q begins or ends with a dot or a space", name)
	}
	return nil
}

// Same reports whether two names are one on a system that does not tell capitals from small letters.
func Same(a, b string) bool { return strings.EqualFold(a, b) }

// Safe is a name like another one that every system can give.
func Safe(name string) string {
	s := strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) || slices.Contains([]rune("-_.+"), r) {
			return r
		}
		return '-'
	}, strings.ToValidUTF8(name, "-"))
	for len(s) > Longest {
		_, n := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-n]
	}
	if s = strings.Trim(s, ". "); s == "" || Check(s) != nil {
		s = "x-" + s
	}
	return s
}
