package proof

import (
	"fmt"
	"strings"

	"mintbatch/internal/core/machine"
)

// Group is works that are alike and follow each other: the numbers in their names, and their
// addresses, count up together.
type Group []Work

// Groups puts works together that are alike, in their order.
func Groups(works []Work) []Group {
	var all []Group
	for _, s := range machine.Series(works, follows) {
		all = append(all, s)
	}
	return all
}

// Name is the name of the group's machine, or the range of their names.
func (g Group) Name() string { return machine.NameRange(g[0].Name, g[len(g)-1].Name) }

// Addresses are those of the group's machine, or the ranges of theirs.
func (g Group) Addresses() []string {
	if g[0].Slim == nil {
		return nil
	}
	return machine.AddressRanges(g[0].Adapters, g[len(g)-1].Adapters)
}

// follows reports whether a work is the next of those that are alike.
func follows(a, b *Work) bool {
	if !machine.NameFollows(a.Name, b.Name) || (a.Slim == nil) != (b.Slim == nil) || a.Kind() != b.Kind() {
		return false
	}
	return a.Slim == nil || machine.AddressesFollow(a.Adapters, b.Adapters)
}

// Kind is what makes works alike, as people are shown them; names and addresses aside.
type Kind struct {
	Word                         Word
	Site, Preset, Template, CPUs string
	Clone                        machine.CloneKind
	Memory                       machine.Size
	Disks, Checkpoint            string
	Owner, Until                 string
	Host, Store, Why             string
}

// Kind returns the work's kind.
func (w Work) Kind() Kind {
	k := Kind{Word: w.Word, Site: w.Site, Why: w.Why()}
	if w.Slim != nil {
		m := w.Common()
		k.Preset, k.Template, k.Clone, k.Memory = m.Preset, m.Clone.Template, m.Clone.Kind, m.Shape.Memory
		k.Disks, k.Checkpoint, k.Owner, k.Until = disks(m.Shape), m.Checkpoint, w.Info.Owner, w.Info.Until
		if m.Shape.CPUs > 0 {
			k.CPUs = fmt.Sprint(m.Shape.CPUs)
		}
	}
	if w.Place != nil {
		k.Host, k.Store = w.Place.Host, w.Place.Store
	}
	return k
}

// disks are the sizes of a machine's disks, the system's first, where the row says it.
func disks(s machine.Shape) string {
	var all []string
	if s.Disk > 0 {
		all = append(all, s.Disk.String())
	}
	for _, d := range s.Disks {
		all = append(all, d.Size.String())
	}
	return strings.Join(all, "+")
}

// Count is how many works are of a kind.
type Count struct {
	Kind
	Machines int
}

// Kinds counts the works by what they make of what, in the order in which they
// come.
func Kinds(works []Work) []Count {
	var all []Count
	at := map[Kind]int{}
	for _, w := range works {
		k := w.Kind()
		k.Host, k.Store, k.Disks, k.Checkpoint, k.Owner, k.Until = "", "", "", "", "", ""
		i, known := at[k]
		if !known {
			i = len(all)
			at[k], all = i, append(all, Count{Kind: k})
		}
		all[i].Machines++
	}
	return all
}
