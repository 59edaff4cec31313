package machine

import (
	"errors"
	"fmt"
	"strings"

	"mintbatch/internal/core/pattern"
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

// login is what useradd of all common systems accepts.
var login = pattern.Lazy(`^[A-Za-z_][A-Za-z0-9_.-]*\$?$`)

// CheckLogin accepts the user names that a common Linux does: a letter or
// underscore, then letters, digits, underscores, dots and hyphens, 32 characters in
// all, and perhaps a dollar sign at the end.
func CheckLogin(s string) error {
	if s == "" || len(s) > 32 {
		return fmt.Errorf("%w: 1 to 32 characters are allowed", ErrLogin)
	}
	if !login().MatchString(s) {
		return fmt.Errorf("%w: write a letter or underscore, then letters, digits, underscores, dots and hyphens", ErrLogin)
	}
	return nil
}

func isLetterOrDigit(r rune) bool {
	return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9'
}
