// Package sequence decides which machines come after which others, by what their column
// `after` says.
package sequence

import (
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
)

// Node is a machine of a sequence.
type Node struct {
	machine.Key
	Preset string
	Labels map[string]string
	Power  machine.Power
	After  []string
}

// NodeOf is a machine with what its spec says of it.
func NodeOf(key machine.Key, s *machine.Spec) Node {
	return Node{key, s.Preset, s.Info.Labels, s.Power, s.After}
}

// Sequence says which machines come after which others. The zero value has no machines.
type Sequence struct {
	Nodes  []Node
	Groups []Group
	After  [][]int // of each node, the groups that it comes after
	Within [][]int // of each node, the groups that it is in
}

// Group is what a word of the column `after` stands for: all that use the word share it, so
// that a thousand machines after a thousand others are not a million pairs.
type Group struct {
	Word    string
	Members []int // those that come first
	Users   []int // those that come after them
}

// Of finds out what the machines come after: each word is a name or a glob of names (with
// its site before it, `quay/bms-*`, or of all sites), `preset:NAME`, or a label, `role=dns`.
func Of(nodes []Node) *Sequence {
	s := &Sequence{Nodes: nodes, After: make([][]int, len(nodes)), Within: make([][]int, len(nodes))}
	known, f := map[string]int{}, finder{nodes: nodes}
	for i, n := range nodes {
		for _, word := range n.After {
			g, has := known[word]
			if !has {
				g = len(s.Groups)
				known[word] = g
				s.Groups = append(s.Groups, Group{Word: word, Members: f.members(word)})
				for _, m := range s.Groups[g].Members {
					s.Within[m] = append(s.Within[m], g)
				}
			}
			s.Groups[g].Users = append(s.Groups[g].Users, i)
			s.After[i] = append(s.After[i], g)
		}
	}
	return s
}

// finder finds machines by the words that stand for them.
type finder struct {
	nodes                  []Node
	names, presets, labels map[string][]int // nil until one is asked for
}

const presetWord = "preset:"

func (f *finder) members(word string) (all []int) {
	word = folded(word)
	switch {
	case strings.HasPrefix(word, presetWord):
		return f.called(&f.presets, word, func(n Node) []string { return []string{presetWord + n.Preset} })
	case strings.Contains(word, "="):
		return f.called(&f.labels, word, func(n Node) (all []string) {
			for k, v := range n.Labels {
				all = append(all, k+"="+v)
			}
			return all
		})
	case glob.Plain(word):
		return f.called(&f.names, word, func(n Node) []string { return []string{n.Name, n.Key.String()} })
	}
	for i, n := range f.nodes {
		name := n.Name
		if strings.Contains(word, "/") {
			name = n.Key.String()
		}
		if glob.Match([]string{word}, folded(name)) {
			all = append(all, i)
		}
	}
	return all
}

// called are the machines that have a word among theirs, in whatever case, which are looked up once.
func (f *finder) called(index *map[string][]int, word string, words func(Node) []string) []int {
	if *index == nil {
		*index = map[string][]int{}
		for i, n := range f.nodes {
			for _, w := range words(n) {
				w = folded(w)
				if all := (*index)[w]; len(all) == 0 || all[len(all)-1] != i { // labels may differ in case only
					(*index)[w] = append(all, i)
				}
			}
		}
	}
	return (*index)[word]
}

// folded is a text as it is in whatever case.
func folded(s string) string { return strings.ToLower(strings.ToUpper(s)) }

// IsEmpty reports whether no machine comes after another.
func (s *Sequence) IsEmpty() bool { return len(s.Groups) == 0 }

// Circles returns machines that come after each other in a circle: of each a machine, the
// one that it comes after, and so on. Of circles that share machines one is returned.
func (s *Sequence) Circles() [][]int {
	var all [][]int
	told := map[int]bool{}
	s.walk(nil, func(circle []int) {
		if slices.ContainsFunc(circle, func(i int) bool { return told[i] }) {
			return
		}
		for _, i := range circle {
			told[i] = true
		}
		all = append(all, slices.Clone(circle))
	})
	return all
}

// Sorted lists the machines so that each stands behind those that it comes after, and
// otherwise in their order.
func (s *Sequence) Sorted() []int {
	all := make([]int, 0, len(s.Nodes))
	s.walk(func(i int) { all = append(all, i) }, nil)
	return all
}

// walk visits each machine after those that it comes after.
func (s *Sequence) walk(visit func(int), circle func([]int)) {
	const (
		untouched = iota
		open
		closed
	)
	nodes, groups := make([]int, len(s.Nodes)), make([]int, len(s.Groups))
	depth := make([]int, len(s.Groups)) // of the stack when the group was entered
	var stack []int
	var enter func(i int)
	enter = func(i int) {
		nodes[i] = open
		stack = append(stack, i)
		for _, g := range s.After[i] {
			if groups[g] == open && circle != nil {
				circle(stack[depth[g]:])
			}
			if groups[g] != untouched {
				continue
			}
			groups[g], depth[g] = open, len(stack)
			for _, m := range s.Groups[g].Members {
				if nodes[m] == open && circle != nil {
					circle(stack[slices.Index(stack, m):])
				}
				if nodes[m] == untouched {
					enter(m)
				}
			}
			groups[g] = closed
		}
		stack = stack[:len(stack)-1]
		nodes[i] = closed
		if visit != nil {
			visit(i)
		}
	}
	for i := range s.Nodes {
		if nodes[i] == untouched {
			enter(i)
		}
	}
}

// Reversed is the sequence in which machines are taken down: each after all that come
// after it.
func (s *Sequence) Reversed() *Sequence {
	r := &Sequence{Nodes: s.Nodes, Groups: make([]Group, len(s.Groups)), After: s.Within, Within: s.After}
	for i, g := range s.Groups {
		r.Groups[i] = Group{Word: g.Word, Members: g.Users, Users: g.Members}
	}
	return r
}

// Behind returns of each machine how long the longest chain of those that come after it
// takes, if each takes what own tells.
func (s *Sequence) Behind(own func(i int) time.Duration) []time.Duration {
	behind, ofGroup := make([]time.Duration, len(s.Nodes)), make([]time.Duration, len(s.Groups))
	known := make([]bool, len(s.Groups))
	for _, i := range slices.Backward(s.Sorted()) {
		for _, g := range s.Within[i] {
			if !known[g] {
				known[g] = true
				for _, u := range s.Groups[g].Users {
					ofGroup[g] = max(ofGroup[g], own(u)+behind[u])
				}
			}
			behind[i] = max(behind[i], ofGroup[g])
		}
	}
	return behind
}
