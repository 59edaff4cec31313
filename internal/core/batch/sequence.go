package batch

import (
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/sequence"
)

// Sequence finds out which machines are started after which others, those of the ledger
// that no row asks for included, and what is wrong with that. Findings of machines that
// named does not tell are not reported, unless it is nil.
func Sequence(wanted []*Wanted, others []sequence.Node, named func(machine string) bool) (*sequence.Sequence, finding.List) {
	if !slices.ContainsFunc(wanted, func(w *Wanted) bool { return len(w.Common().After) > 0 }) && !slices.ContainsFunc(others, func(n sequence.Node) bool { return len(n.After) > 0 }) {
		return &sequence.Sequence{}, nil
	}
	nodes := make([]sequence.Node, 0, len(wanted)+len(others))
	for _, w := range wanted {
		spec := w.Spec()
		nodes = append(nodes, sequence.NodeOf(w.Key, &spec))
	}
	s := sequence.Of(append(nodes, others...))
	var found finding.Collector
	bad := func(w *Wanted, code, message, hint string) {
		if named == nil || named(w.Name) {
			o := w.Origin("after")
			found.Add(finding.Finding{Code: code, At: o.At, Value: o.Value, Message: message, Hint: hint}, "", w.Name)
		}
	}
	for i, w := range wanted {
		for _, g := range s.After[i] {
			group := s.Groups[g]
			if len(group.Members) == 0 {
				hint := ""
				if !found.Full("unknown-after") {
					hint = nearestName(group.Word, s.Nodes)
				}
				bad(w, "unknown-after", fmt.Sprintf("%q is no machine of sheet or ledger", group.Word), hint)
			}
			off := slices.IndexFunc(group.Members, func(m int) bool { return m != i && s.Nodes[m].Power == machine.Off })
			if off >= 0 {
				bad(w, "bad-after", fmt.Sprintf("%s is never started: its power is off", s.Nodes[group.Members[off]].Name), "write power: on or confirm-then-off in its row")
			}
		}
	}
	for _, circle := range s.Circles() {
		w, text := (*Wanted)(nil), ""
		for k, i := range circle {
			if i < len(wanted) && w == nil {
				w = wanted[i]
			}
			if k < 5 || k == len(circle)-1 {
				text += s.Nodes[i].Name + " after "
			} else if k == 5 {
				text += fmt.Sprintf("%d others after ", len(circle)-6)
			}
		}
		text += s.Nodes[circle[0]].Name
		switch {
		case w == nil: // of machines that no row is about
		case len(circle) == 1:
			bad(w, "after-circle", fmt.Sprintf("%s comes after itself", w.Name), "leave it out of the words of its own row; none takes away what a preset says")
		default:
			bad(w, "after-circle", "each of these machines waits for the next: "+text, "remove one of them")
		}
	}
	return s, found.List()
}

// nearestName suggests what a word that matches no machine may have meant.
func nearestName(word string, nodes []sequence.Node) string {
	if strings.ContainsAny(word, "*?[:=/") {
		return ""
	}
	known := make([]string, len(nodes))
	for i, n := range nodes {
		known[i] = n.Name
	}
	if name := finding.Nearest(word, known); name != "" {
		return "did you mean " + name + "?"
	}
	return ""
}
