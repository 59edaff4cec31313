package machine

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Moment is when a checkpoint is kept.
type Moment string

// The moments.
const (
	BeforeStart  Moment = ""              // before the first start
	Confirmed    Moment = "confirmed"     // once the guest is confirmed, as it is then
	ConfirmedOff Moment = "confirmed-off" // once it is, shut down for that and started again
)

// Checkpoint is a state of a machine that is kept under a name.
type Checkpoint struct {
	Name   string
	Moment Moment
}

// ErrCheckpoint is what every failure of ParseCheckpoints unwraps to.
var ErrCheckpoint = errors.New("invalid checkpoint")

// ParseCheckpoints reads names, each with its moment: `fresh ready@confirmed`.
func ParseCheckpoints(cell string) ([]Checkpoint, error) {
	var all []Checkpoint
	named := map[string]bool{}
	for _, word := range strings.FieldsFunc(cell, func(r rune) bool { return strings.ContainsRune(" ,;\n\t\r", r) }) {
		name, moment, has := strings.Cut(word, "@")
		c := Checkpoint{name, Moment(strings.ToLower(moment))}
		switch {
		case CheckLabel(name) != nil:
			return nil, fmt.Errorf("%w: the name %q must be letters, digits and hyphens", ErrCheckpoint, name)
		case has && c.Moment != Confirmed && c.Moment != ConfirmedOff:
			return nil, fmt.Errorf("%w: the moment of %s must be confirmed or confirmed-off, not %q", ErrCheckpoint, name, moment)
		case named[strings.ToLower(name)]:
			return nil, fmt.Errorf("%w: two checkpoints are named %s", ErrCheckpoint, name)
		}
		all, named[strings.ToLower(name)] = append(all, c), true
	}
	return all, nil
}

// String writes the checkpoint as ParseCheckpoints reads it.
func (c Checkpoint) String() string {
	if c.Moment == BeforeStart {
		return c.Name
	}
	return c.Name + "@" + string(c.Moment)
}

// Checkpoints are those that the row asks for.
func (s Spec) Checkpoints() []Checkpoint {
	all, _ := ParseCheckpoints(s.Checkpoint) // it was checked where it was read
	return all
}

// KeepsAt reports whether a checkpoint is asked for that is kept before the first start, or
// after it.
func (s Spec) KeepsAt(start bool) bool {
	return slices.ContainsFunc(s.Checkpoints(), func(c Checkpoint) bool { return (c.Moment == BeforeStart) == start })
}
