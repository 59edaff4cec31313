package proof

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"mintbatch/internal/core/machine"
)

// Group is works that are alike and follow each other: the numbers in their names, and their
// addresses, count up together.
type Group []Work

// Groups puts works together that are alike, in their order.
func Groups(works []Work) []Group {
	var all []Group
	for i := range works {
		if n := len(all); n > 0 && follows(&all[n-1][len(all[n-1])-1], &works[i]) {
			all[n-1] = works[i-len(all[n-1]) : i+1 : i+1]
			continue
		}
		all = append(all, works[i:i+1:i+1])
	}
	return all
}

// Name is the name of the group's machine, or the range of their names.
func (g Group) Name() string {
	first, last := g[0].Name, g[len(g)-1].Name
	if len(g) == 1 {
		return first
	}
	prefix, _ := numbered(first)
	return prefix + "[" + first[len(prefix):] + "-" + last[len(prefix):] + "]"
}

// Addresses are those of the group's machine, or the ranges of theirs.
func (g Group) Addresses() []string {
	var words []string
	if g[0].Machine == nil {
		return nil
	}
	last := g[len(g)-1].Machine
	for i, a := range g[0].Machine.Adapters {
		words = append(words, a.Words()...)
		for k, p := range a.Addresses {
			words = append(words, span(p.Addr(), last.Adapters[i].Addresses[k].Addr()))
		}
	}
	return words
}

// span writes the addresses from one to another: 198.51.100.11-18.
func span(from, to netip.Addr) string {
	if from == to {
		return from.String()
	}
	a, b := from.String(), to.String()
	if i := strings.LastIndexByte(a, '.'); i >= 0 && strings.LastIndexByte(b, '.') == i && a[:i] == b[:i] {
		return a + "-" + b[i+1:]
	}
	return a + "-" + b
}

// numbered takes the number at a name's end off.
func numbered(name string) (prefix, digits string) {
	prefix = strings.TrimRight(name, "0123456789")
	return prefix, name[len(prefix):]
}

// follows reports whether a work is the next of those that are alike.
func follows(a, b *Work) bool {
	prefix, digits := numbered(a.Name)
	nextPrefix, nextDigits := numbered(b.Name)
	n, err := strconv.Atoi(digits)
	next, wrong := strconv.Atoi(nextDigits)
	if err != nil || wrong != nil || prefix != nextPrefix || len(digits) != len(nextDigits) || next != n+1 {
		return false
	}
	if a.Kind() != b.Kind() || (a.Machine == nil) != (b.Machine == nil) {
		return false
	}
	return a.Machine == nil || addressesFollow(a.Machine.Adapters, b.Machine.Adapters)
}

func addressesFollow(a, b []machine.Adapter) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if len(a[i].Addresses) != len(b[i].Addresses) || strings.Join(a[i].Words(), " ") != strings.Join(b[i].Words(), " ") {
			return false
		}
		for k, p := range a[i].Addresses {
			if p.Addr().Next() != b[i].Addresses[k].Addr() {
				return false
			}
		}
	}
	return true
}

// Kind is what makes works alike, as people are shown them; names and addresses aside.
type Kind struct {
	Word                         Word
	Site, Preset, Template, CPUs string
	Clone                        machine.CloneKind
	Memory                       machine.Size
	Host, Store, Why             string
}

// Kind returns the work's kind.
func (w Work) Kind() Kind {
	k := Kind{Word: w.Word, Site: w.Site, Why: w.Why()}
	if m := w.Machine; m != nil {
		k.Preset, k.Template, k.Clone, k.Memory = m.Preset, m.Clone.Template, m.Clone.Kind, m.Shape.Memory
		if m.Shape.CPUs > 0 {
			k.CPUs = fmt.Sprint(m.Shape.CPUs)
		}
	}
	if w.Place != nil {
		k.Host, k.Store = w.Place.Host, w.Place.Store
	}
	return k
}

// Count is how many works are of a kind.
type Count struct {
	Kind
	Machines int
}

// Kinds counts the works by their kind, hosts and stores aside, in the order in which they
// come.
func Kinds(works []Work) []Count {
	var all []Count
	at := map[Kind]int{}
	for _, w := range works {
		k := w.Kind()
		k.Host, k.Store = "", ""
		i, known := at[k]
		if !known {
			i = len(all)
			at[k], all = i, append(all, Count{Kind: k})
		}
		all[i].Machines++
	}
	return all
}
