package proof

import (
	"maps"
	"slices"
	"strings"
	"unicode"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/machine"
)

// drift reports in what a machine at its site is not as it was made: somebody has
// changed it there.
func drift(name string, made machine.Spec, now *Seen) []Reason {
	if now.Power == "" {
		return nil // the site does not tell
	}
	var all []Reason
	differs := func(field, from, to string) {
		if from != to {
			all = append(all, Reason{Field: field, From: from, To: to})
		}
	}
	if !strings.EqualFold(name, now.Name) {
		differs("name", name, printable(now.Name))
	}
	is := &machine.Spec{Shape: now.Shape, Info: now.Info}
	if has := now.Shape.CPUs; made.Shape.CPUs > 0 && has > 0 && has != made.Shape.CPUs {
		differs("cpus", show("cpus", &made, 0), show("cpus", is, 0))
	}
	if has := now.Shape.Memory; made.Shape.Memory > 0 && has > 0 && has != made.Shape.Memory {
		differs("memory", show("memory", &made, 0), show("memory", is, 0))
	}
	if disk := made.Shape.Disk; disk > 0 && now.Shape.Disk > 0 && disk != now.Shape.Disk {
		all = append(all, Reason{Field: "disk", From: disk.String(), To: now.Shape.Disk.String(), Final: now.Shape.Disk > disk})
	}
	cards := machine.Cards(made.Adapters)
	if now.Adapters != nil {
		for i := range max(len(cards), len(now.Adapters)) {
			a, b := at(cards, i), at(now.Adapters, i)
			if a.Network == b.Network && a.MAC == b.MAC && a.Unplugged == b.Unplugged {
				continue
			}
			differs(column.ID("network", i+1), a.Network, b.Network)
			differs(column.ID("mac", i+1), strings.ToLower(a.MAC), strings.ToLower(b.MAC))
			differs(column.ID("link", i+1), link(a), link(b))
		}
	}
	for i, c := range cards {
		if now.Leases != nil && c.Lease.IsValid() {
			differs(column.ID("lease", i+1), c.Lease.Addr().String(), now.Leases[strings.ToLower(c.MAC)])
		}
	}
	if made.Info.Owner != now.Info.Owner {
		differs("owner", printable(made.Info.Owner), printable(now.Info.Owner))
	}
	if made.Info.Notes != now.Info.Notes {
		differs("notes", printable(made.Info.Notes), printable(now.Info.Notes))
	}
	differs("until", made.Info.Until, now.Info.Until)
	differs("keep", made.Info.Keep, now.Info.Keep)
	if !maps.Equal(made.Info.Labels, now.Info.Labels) {
		differs("labels", printable(show("labels", &made, 0)), printable(show("labels", is, 0)))
	}
	differs("power", string(made.Power.Rests()), string(now.Power))
	return all
}

func link(c machine.Card) string {
	return show("link", &machine.Spec{Adapters: []machine.Adapter{{Card: c}}}, 0)
}

// printable is a text without what a site may have stored differently: spaces, and
// characters that cannot be seen.
func printable(text string) string {
	return strings.Join(strings.FieldsFunc(text, func(r rune) bool { return unicode.IsSpace(r) || !unicode.IsPrint(r) }), " ")
}

// RevertDrift turns every machine that has drifted, and is not to be made again
// anyway, into an adjust: it becomes what it was made to be again, but
// for what cannot be undone.
func (p Proof) RevertDrift() Proof {
	works := make([]Work, len(p.Works))
	for i, w := range p.Works {
		final := slices.DeleteFunc(slices.Clone(w.Drift), func(r Reason) bool { return !r.Final })
		if (w.Word == Same || w.Word == Adjust || w.Word == Dated) && len(final) < len(w.Drift) {
			if w.Word == Dated {
				w.Dated, w.Reasons = w.Reasons, nil
			}
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

// restarts reports each change of an adjust whether the machine, which runs,
// has to be restarted for it, and whether it may be.
func (w *Work) restarts() {
	for i, r := range w.Reasons {
		if w.Word != Adjust || w.Power != machine.On {
			continue
		}
		column, _, _ := strings.Cut(r.Field, ".")
		w.Reasons[i].Restart = column == "cpus" || column == "memory"
		w.Reasons[i].MayRestart = slices.Contains([]string{"disks", "network", "mac", "name"}, column)
		w.Reasons[i].Forbidden = (w.Reasons[i].Restart || w.Reasons[i].MayRestart) && w.Common().Power == machine.StayOn
	}
}

// Forbidden reports whether the work needs a restart that the row does not allow.
func (w Work) Forbidden() bool {
	return slices.ContainsFunc(w.Reasons, func(r Reason) bool { return r.Restart && r.Forbidden })
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

// Restarts counts the machines that are shut down and started again for their changes.
func (p Proof) Restarts() int {
	n := 0
	for _, w := range p.Works {
		if w.Word == Adjust && slices.ContainsFunc(w.Reasons, func(r Reason) bool { return r.Restart && !r.Forbidden }) {
			n++
		}
	}
	return n
}
