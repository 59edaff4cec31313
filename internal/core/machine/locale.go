package machine

import (
	"errors"
	"fmt"
	"strings"

	"golang.org/x/text/language"

	"mintbatch/internal/core/pattern"
)

// ErrLocale is what every refusal of a locale unwraps to.
var ErrLocale = errors.New("not a locale")

// locale is its POSIX name: language, territory, codeset and modifier.
var locale = pattern.Lazy(`^([a-z]{2,3})(?:_([A-Z]{2}))?(?:\.([A-Za-z0-9-]+))?(?:@([a-z]+))?$`)

// CheckLocale accepts the names of locales that Linux has: C, C.UTF-8, nb_NO.UTF-8,
// sr_RS@latin. Language and territory are those of ISO 639 and ISO 3166.
func CheckLocale(s string) error {
	if s == "C" || s == "POSIX" || s == "C.UTF-8" || s == "C.utf8" {
		return nil
	}
	m := locale().FindStringSubmatch(s)
	if m == nil {
		return fmt.Errorf("%w: %q; write it as nb_NO.UTF-8", ErrLocale, s)
	}
	if _, err := language.ParseBase(m[1]); err != nil {
		return fmt.Errorf("%w: no language has the code %q", ErrLocale, m[1])
	}
	if m[2] != "" {
		if r, err := language.ParseRegion(m[2]); err != nil || !r.IsCountry() {
			return fmt.Errorf("%w: no country has the code %q", ErrLocale, m[2])
		}
	}
	return nil
}

// scripts are those that a modifier of a locale means.
var scripts = map[string]string{"latin": "Latn", "cyrillic": "Cyrl", "devanagari": "Deva"}

// LanguageTag writes a locale as a language tag (RFC 5646): nb_NO.UTF-8 is nb-NO,
// sr_RS@latin is sr-Latn-RS, and a tag is itself.
func LanguageTag(s string) string {
	if m := locale().FindStringSubmatch(s); m != nil {
		s = m[1]
		for _, part := range []string{scripts[m[4]], m[2]} {
			if part != "" {
				s += "-" + part
			}
		}
		return s
	}
	s, _, _ = strings.Cut(s, ".")
	return strings.ReplaceAll(s, "_", "-")
}

// CheckLanguageTag accepts the tags of languages that Windows has names for:
// language, script and region, each by its code.
func CheckLanguageTag(s string) error {
	tag, err := language.Parse(s)
	if err != nil || len(tag.Variants())+len(tag.Extensions()) > 0 || strings.Contains(s, "_") {
		return fmt.Errorf("%w: %q; write it as nb-NO", ErrLocale, s)
	}
	return nil
}

// inputLocale is a keyboard by its codes, language and layout.
var inputLocale = pattern.Lazy(`^[0-9A-Fa-f]{4}:[0-9A-Fa-f]{8}$`)

// CheckKeyboard accepts what Windows knows a keyboard by: a language tag, or the
// codes of language and layout such as 0414:00000414; several between semicolons.
func CheckKeyboard(s string) error {
	for _, word := range strings.Split(s, ";") {
		if !inputLocale().MatchString(word) && CheckLanguageTag(word) != nil {
			return fmt.Errorf("%w: keyboard %q; write it as nb-NO or 0414:00000414", ErrLocale, word)
		}
	}
	return nil
}
