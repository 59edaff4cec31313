package image

import (
	"cmp"
	"fmt"
	"slices"
)

// Damage is something in an image that is not as its format demands.
type Damage struct {
	// At is where in the file it is, in bytes.
	At   int64  `json:"at"`
	What string `json:"what"`
	// Waste means that only space is lost, not data.
	Waste bool `json:"waste,omitempty"`
}

// Place is a part of a file that something is said to be in.
type Place struct {
	At, Length int64
	What       string
}

// mostDamage is how many of a kind are told one by one.
const mostDamage = 100

// Overlaps finds places that share bytes, or that are not in a file of a size.
func Overlaps(places []Place, size int64) []Damage {
	var found []Damage
	slices.SortFunc(places, func(a, b Place) int { return cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(a.Length, b.Length)) })
	end, last := int64(0), Place{What: "the beginning"}
	for _, p := range places {
		if len(found) == mostDamage {
			break
		}
		switch {
		case p.At < 0 || p.Length < 0 || p.At > size-p.Length:
			found = append(found, Damage{At: p.At, What: fmt.Sprintf("%s is said to be at %d to %d, in a file of %d bytes", p.What, p.At, p.At+p.Length, size)})
			continue
		case p.At < end:
			found = append(found, Damage{At: p.At, What: fmt.Sprintf("%s and %s are both said to be at %d", last.What, p.What, p.At)})
		}
		if p.At+p.Length > end {
			end, last = p.At+p.Length, p
		}
	}
	return found
}
