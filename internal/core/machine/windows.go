package machine

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"mintbatch/internal/core/pattern"
)

// ErrWindows is what every refusal of a Windows guest's names unwraps to.
var ErrWindows = errors.New("not valid for Windows")

// taken are names that Windows has given away itself: built-in accounts and groups,
// and device names, for which no profile folder can be made.
var taken = []string{"administrators", "anonymous", "authenticated users", "backup operators", "batch", "creator group", "creator owner", "defaultaccount",
	"dialup", "everyone", "guest", "guests", "interactive", "local", "local service", "network", "network service", "none", "nul", "power users", "proxy",
	"replicator", "restricted", "self", "service", "system", "terminal server", "users", "wdagutilityaccount",
	"aux", "con", "prn", "com1", "com2", "com3", "com4", "lpt1", "lpt2", "lpt3", "lpt4"}

// CheckAccount holds the name of a local account against what Windows allows: at most
// 20 characters, none of "/\[]:;|=,+*?<>@ among them, no dot at the end, and not one
// that Windows has itself.
func CheckAccount(s string) error {
	switch {
	case s == "" || utf8.RuneCountInString(s) > 20:
		return fmt.Errorf("%w: account name %q; it must have 1 to 20 characters", ErrWindows, s)
	case strings.ContainsAny(s, `"/\[]:;|=,+*?<>@`) || strings.HasSuffix(s, ".") || strings.TrimSpace(s) != s || strings.IndexFunc(s, unicode.IsControl) >= 0:
		return fmt.Errorf("%w: the account name %q; it has none of \"/\\[]:;|=,+*?<>@, and no dot or blank at its end", ErrWindows, s)
	case slices.Contains(taken, strings.ToLower(s)):
		return fmt.Errorf("%w: account name %q is reserved by Windows", ErrWindows, s)
	}
	return nil
}

// CheckWorkgroup holds a workgroup against what NetBIOS allows.
func CheckWorkgroup(s string) error {
	if s == "" || len(s) > 15 || strings.ContainsAny(s, `\/:*?"<>|.`) || strings.TrimSpace(s) != s || strings.IndexFunc(s, unicode.IsControl) >= 0 {
		return fmt.Errorf("%w: the workgroup %q; none of \\/:*?\"<>|. may be in it, which has 1 to 15 characters", ErrWindows, s)
	}
	return nil
}

// unit is an organizational unit as a distinguished name (RFC 4514): parts of
// which a comma that belongs to a name is escaped.
var unit = pattern.Lazy(`(?i)^(?:(?:OU|CN)=(?:[^,\\"+<>;=]|\\.)+,)+DC=[a-z0-9-]+(?:,DC=[a-z0-9-]+)*$`)

// CheckUnit holds an organizational unit against the form of its name.
func CheckUnit(s string) error {
	if !unit().MatchString(s) {
		return fmt.Errorf("%w: organizational unit %q; write its distinguished name, such as OU=nodes,DC=brackwater,DC=example", ErrWindows, s)
	}
	return nil
}

// productKey is the form of one.
var productKey = pattern.Lazy(`^[A-Za-z0-9]{5}(-[A-Za-z0-9]{5}){4}$`)

// CheckProductKey holds a key against the form of one, and never repeats it.
func CheckProductKey(s string) error {
	if !productKey().MatchString(s) {
		return fmt.Errorf("%w: it is not a product key, which has five groups of five letters and digits", ErrWindows)
	}
	return nil
}
