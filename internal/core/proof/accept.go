package proof

import (
	"slices"
	"strings"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/machine"
)

// Acceptable is in what a machine that was made differs from its row and somebody
// may have changed it by hand, in its guest.
type Acceptable struct {
	// Spec is what the machine would be taken to be made to: as the row wants it in
	// what is in the guest, as it is in all else.
	Spec machine.Spec
	// Shown are differences that site and guest can be asked about, Unseen those of
	// which no view tells.
	Shown, Unseen []Reason
	// Never are differences that only another clone can have.
	Never []Reason
}

// Accept sorts out in what a made machine differs from what is wanted.
func Accept(made, wanted machine.Spec) Acceptable {
	a := Acceptable{Spec: wanted}
	a.Spec.Adapters = slices.Clone(wanted.Adapters[:min(len(wanted.Adapters), len(made.Adapters))])
	inGuest := func(c column.Column) bool { return c.Visible || c.Change == column.NextBoot }
	copySettings(&a.Spec, &made, func(c column.Column) bool { return !inGuest(c) })
	for i := range a.Spec.Adapters {
		a.Spec.Adapters[i].Later = made.Adapters[i].Later
	}
	for _, c := range differences(&made, &wanted) {
		name, _, _ := strings.Cut(c.Field, ".")
		field, _ := column.Named(name)
		switch {
		case c.takes == column.InPlace || c.takes == column.Detached || c.takes == column.Later:
		case field.Visible:
			a.Shown = append(a.Shown, c.Reason)
		case c.takes == column.NextBoot:
			a.Unseen = append(a.Unseen, c.Reason)
		case c.takes >= column.Another:
			a.Never = append(a.Never, c.Reason)
		}
	}
	return a
}
