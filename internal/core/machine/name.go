package machine

import (
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// The reasons for which a name is refused.
var (
	ErrLabel  = errors.New("not a host name label")
	ErrDomain = errors.New("not a domain name")
	ErrLogin  = errors.New("not a login name")
)

// CheckLabel holds a machine or host name against RFC 1123, section 2.1: 1 to
// 63 letters, digits and hyphens, with no hyphen at either end.
func CheckLabel(s string) error {
	switch {
	case s == "":
		return fmt.Errorf("%w: it is empty", ErrLabel)
	case len(s) > 63:
		return fmt.Errorf("%w: %d characters, at most 63 are allowed", ErrLabel, len(s))
	case s[0] == '-' || s[len(s)-1] == '-':
		return fmt.Errorf("%w: it must not begin or end with a hyphen", ErrLabel)
	}
	for _, r := range s {
		if !isLetterOrDigit(r) && r != '-' {
			return fmt.Errorf("%w: %q is not a letter, digit or hyphen", ErrLabel, r)
		}
	}
	return nil
}

// CheckDomain holds a domain against RFC 1123, section 2.1: labels separated
// by dots, at most 253 characters in all.
func CheckDomain(s string) error {
	if len(s) > 253 {
		return fmt.Errorf("%w: %d characters, at most 253 are allowed", ErrDomain, len(s))
	}
	for _, label := range strings.Split(s, ".") {
		if err := CheckLabel(label); err != nil {
			return fmt.Errorf("%w: label %q: %w", ErrDomain, label, err)
		}
	}
	return nil
}

// CheckLogin accepts the user names that useradd and every other common tool
// accept: a lower-case letter or underscore, then at most 31 of those, digits
// and hyphens.
func CheckLogin(s string) error {
	if s == "" || len(s) > 32 {
		return fmt.Errorf("%w: 1 to 32 characters are allowed", ErrLogin)
	}
	for i, r := range s {
		lower := r >= 'a' && r <= 'z' || r == '_'
		if !lower && (i == 0 || r != '-' && (r < '0' || r > '9')) {
			return fmt.Errorf("%w: write a lower-case letter or underscore, then lower-case letters, digits, hyphens and underscores", ErrLogin)
		}
	}
	return nil
}

// CheckAccount accepts what is a login name on Linux, or an account's on
// Windows: at most 20 characters, none of "/\[]:;|=,+*?<>@ among them and no
// dot at the end.
func CheckAccount(s string) error {
	if CheckLogin(s) == nil {
		return nil
	}
	if s == "" || utf8.RuneCountInString(s) > 20 || strings.ContainsAny(s, `"/\[]:;|=,+*?<>@`) || strings.HasSuffix(s, ".") ||
		strings.TrimSpace(s) != s || strings.IndexFunc(s, unicode.IsControl) >= 0 {
		return fmt.Errorf("%w: %q", ErrLogin, s)
	}
	return nil
}

func isLetterOrDigit(r rune) bool {
	return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9'
}
