package machine

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/google/uuid"
)

// Version is an edition of a template, NAME@N. The zero number stands for the newest.
type Version struct {
	Template string
	Number   int
}

// ErrVersion is what every failure of ParseVersion unwraps to.
var ErrVersion = errors.New("not a version of a template")

// mostVersions bounds the numbers of versions.
const mostVersions = 1_000_000

// ParseVersion reads NAME@N, N being 1 or more, or NAME alone.
func ParseVersion(text string) (Version, error) {
	name, number, at := strings.Cut(text, "@")
	if err := CheckLabel(name); err != nil {
		return Version{}, fmt.Errorf("%w: %q: %w", ErrVersion, text, err)
	}
	if !at {
		return Version{Template: name}, nil
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 || n > mostVersions || strconv.Itoa(n) != number {
		return Version{}, fmt.Errorf("%w: %q: %q is not a number from 1 to %d", ErrVersion, text, number, mostVersions)
	}
	return Version{name, n}, nil
}

// VersionOf is ParseVersion of the name that a template has at a site; false if it is none of a version.
func VersionOf(template string) (Version, bool) {
	v, err := ParseVersion(template)
	return v, err == nil && v.Number > 0
}

// String writes it as it is read.
func (v Version) String() string {
	if v.Number == 0 {
		return v.Template
	}
	return fmt.Sprintf("%s@%d", v.Template, v.Number)
}

// Identity is that of the version at a site; whoever makes it there again makes it with the same.
func (v Version) Identity(ledger uuid.UUID, site string) uuid.UUID {
	return uuid.NewSHA1(ledger, fmt.Appendf(nil, "template\x00%s\x00%s", site, v))
}
