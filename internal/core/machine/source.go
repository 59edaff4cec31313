package machine

import (
	"errors"
	"fmt"
	"strings"
)

// sourcePrefix begins the name of a template that is a machine, or a checkpoint of one.
const sourcePrefix = "machine:"

// Cloned is a machine that others are cloned from, as it is or as it was at a checkpoint.
type Cloned struct{ Name, Checkpoint string }

// ErrSource is what every failure of ParseSource unwraps to.
var ErrSource = errors.New("not a machine to clone")

// ParseSource reads `machine:NAME` or `machine:NAME@CHECKPOINT`. It returns false for the name of
// any other template.
func ParseSource(template string) (s Cloned, is bool, err error) {
	text, is := strings.CutPrefix(template, sourcePrefix)
	if !is {
		return Cloned{}, false, nil
	}
	name, checkpoint, at := strings.Cut(text, "@")
	err = CheckLabel(name)
	if err == nil && at {
		err = CheckLabel(checkpoint)
	}
	if err != nil {
		return Cloned{}, true, fmt.Errorf("%w: %q: %w", ErrSource, template, err)
	}
	return Cloned{name, checkpoint}, true, nil
}

// SourceOf is ParseSource of a name that was checked before.
func SourceOf(template string) (Cloned, bool) {
	s, is, err := ParseSource(template)
	return s, is && err == nil
}

// SourceName names a machine as what another is cloned from.
func SourceName(name string) string { return sourcePrefix + name }
