package proof

import "mintbatch/internal/core/machine"

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
		clone := w.Common().Clone
		host, store := clone.Host, clone.Store
		if w.Place != nil {
			host, store = w.Place.Host, w.Place.Store
			s.Bytes[store] += w.Place.Takes
		}
		s.Host[host]++
		s.Store[store]++
		on := map[string]bool{}
		for _, a := range w.Adapters {
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
