package proof

import "mintbatch/internal/core/machine"

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
	if made.Shape.Disk > 0 && now.Shape.Disk > 0 {
		differs("disk", size(made.Shape.Disk), size(now.Shape.Disk))
	}
	differs("power", string(made.Power.Rests()), string(now.Power))
	return all
}

// PutRight turns every machine that has drifted and needs nothing else into an
// adjust: it becomes what it was made to be again.
func (p Proof) PutRight() Proof {
	works := make([]Work, len(p.Works))
	for i, w := range p.Works {
		if w.Word == Same && len(w.Drift) > 0 {
			w.Word, w.Again = Adjust, true
			for _, d := range w.Drift {
				w.Reasons = append(w.Reasons, Reason{Field: d.Field, From: d.To, To: d.From})
			}
			w.Drift = nil
		}
		works[i] = w
	}
	return Proof{works}
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

// Sums count the machines that are to be cloned, and what their clones take, by
// where they go. A host or store that the site chooses has no name yet.
type Sums struct {
	Site    map[string]int          `json:"site"`
	Host    map[string]int          `json:"host"`
	Store   map[string]int          `json:"store"`
	Network map[string]int          `json:"network"`
	Bytes   map[string]machine.Size `json:"takes"` // by store
}

// Sums adds up the work.
func (p Proof) Sums() Sums {
	s := Sums{map[string]int{}, map[string]int{}, map[string]int{}, map[string]int{}, map[string]machine.Size{}}
	for _, w := range p.Works {
		if w.Word != New && w.Word != Remake {
			continue
		}
		s.Site[w.Site]++
		host, store := w.Machine.Clone.Host, w.Machine.Clone.Store
		if w.Place != nil {
			host, store = w.Place.Host, w.Place.Store
			s.Bytes[store] += w.Place.Takes
		}
		s.Host[host]++
		s.Store[store]++
		on := map[string]bool{}
		for _, a := range w.Machine.Adapters {
			if !on[a.Network] {
				s.Network[a.Network]++
			}
			on[a.Network] = true
		}
	}
	delete(s.Host, "")
	delete(s.Store, "")
	return s
}
