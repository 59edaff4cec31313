package proof

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"mintbatch/internal/core/machine"
)

// drift tells in what a machine at its site is not as it was made: somebody has
// changed it there.
func drift(made machine.Spec, now Seen) []Reason {
	if now.Power == "" {
		return nil // the site does not tell
	}
	var all []Reason
	differs := func(field, from, to string) {
		if from != to {
			all = append(all, Reason{Field: field, From: from, To: to})
		}
	}
	if made.Shape.CPUs > 0 && now.Shape.CPUs > 0 {
		differs("cpus", number(made.Shape.CPUs), number(now.Shape.CPUs))
	}
	if made.Shape.Memory > 0 && now.Shape.Memory > 0 {
		differs("memory", size(made.Shape.Memory), size(now.Shape.Memory))
	}
	if disk := made.Shape.Disk; disk > 0 && now.Shape.Disk > 0 && disk != now.Shape.Disk {
		all = append(all, Reason{Field: "disk", From: size(disk), To: size(now.Shape.Disk), Final: now.Shape.Disk > disk})
	}
	if now.Adapters != nil {
		cards := machine.Cards(made.Adapters)
		for i := range max(len(cards), len(now.Adapters)) {
			a, b := adapter(cards, i), adapter(now.Adapters, i)
			n := ""
			if i > 0 {
				n = fmt.Sprintf(".%d", i+1)
			}
			differs("network"+n, a.Network, b.Network)
			differs("mac"+n, strings.ToLower(a.MAC), strings.ToLower(b.MAC))
			differs("wire"+n, wire(a), wire(b))
		}
	}
	differs("owner", told(made.Mark.Owner), told(now.Mark.Owner))
	differs("notes", told(made.Mark.Notes), told(now.Mark.Notes))
	differs("until", made.Mark.Until, now.Mark.Until)
	differs("labels", told(labels(made.Mark.Labels)), told(labels(now.Mark.Labels)))
	differs("power", string(made.Power.Rests()), string(now.Power))
	return all
}

// told is a text without what a site may have written otherwise: spaces, and
// characters that are not to be seen.
func told(text string) string {
	return strings.Join(strings.FieldsFunc(text, func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsPrint(r) }), " ")
}

// PutRight turns every machine that has drifted, and is not to be made again
// anyway, into an adjust: it becomes what it was made to be again, but
// for what cannot be undone.
func (p Proof) PutRight() Proof {
	works := make([]Work, len(p.Works))
	for i, w := range p.Works {
		final := slices.DeleteFunc(slices.Clone(w.Drift), func(r Reason) bool { return !r.Final })
		if (w.Word == Same || w.Word == Adjust) && len(final) < len(w.Drift) {
			w.Word, w.Again = Adjust, true
			w.Reasons = slices.Clone(w.Reasons)
			for _, d := range w.Drift {
				if !d.Final {
					w.Reasons = append(w.Reasons, Reason{Field: d.Field, From: d.To, To: d.From})
				}
			}
			w.Drift = final
			w.restarts()
		}
		works[i] = w
	}
	return Proof{works}
}

// restarts tells of each change of an adjust whether the machine, which runs,
// has to be restarted for it, and whether it may be.
func (w *Work) restarts() {
	for i, r := range w.Reasons {
		if w.Word != Adjust || w.Power != machine.On {
			continue
		}
		column, _, _ := strings.Cut(r.Field, ".")
		w.Reasons[i].Restart = column == "cpus" || column == "memory"
		w.Reasons[i].MayRestart = column == "disks" || column == "network" || column == "mac"
		w.Reasons[i].Barred = (w.Reasons[i].Restart || w.Reasons[i].MayRestart) && w.Machine.Power == machine.StayOn
	}
}

// Barred tells whether the work needs a restart that the row does not allow.
func (w Work) Barred() bool {
	return slices.ContainsFunc(w.Reasons, func(r Reason) bool { return r.Restart && r.Barred })
}

// Drifted counts the machines that were changed at their sites.
func (p Proof) Drifted() int {
	n := 0
	for _, w := range p.Works {
		if len(w.Drift) > 0 {
			n++
		}
	}
	return n
}
