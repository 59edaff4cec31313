package run

import (
	"errors"
	"slices"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/sequence"
)

// HeldBack means that a machine was left as it is because one that has to come before it
// has come to no good end. Running the same command again goes on with it.
type HeldBack struct{ By string }

// Error names the other machine, and why it is not ready if it was no part of the run.
func (h *HeldBack) Error() string { return "held back by " + h.By }

// Gates hold machines back until those that come before them have come to a good end. They
// serve all waves of a run. A nil one holds nothing back.
type Gates struct {
	*sequence.Sequence
	at    map[machine.Key]int
	doors []door // by group
}

// door is what stands before the machines that come after a group.
type door struct {
	awaited int    // members whose end is awaited
	shut    string // by whom; empty while all goes well
}

// NewGates makes the gates of a run on some machines. Unready returns why another machine is
// not ready, with its name; empty if it is.
func NewGates(s *sequence.Sequence, works []machine.Key, unready func(machine.Key) string) *Gates {
	g := &Gates{Sequence: s, at: make(map[machine.Key]int, len(s.Nodes)), doors: make([]door, len(s.Groups))}
	for i, n := range s.Nodes {
		g.at[n.Key] = i
	}
	awaited := make([]bool, len(s.Nodes))
	for _, key := range works {
		if i, known := g.at[key]; known {
			awaited[i] = true
		}
	}
	for k, group := range s.Groups {
		for _, m := range group.Members {
			if awaited[m] {
				g.doors[k].awaited++
			} else if g.doors[k].shut == "" {
				g.doors[k].shut = unready(s.Nodes[m].Key)
			}
		}
	}
	return g
}

// pass reports whether a machine may go on. If it never may, the error is a *HeldBack.
func (g *Gates) pass(key machine.Key) (bool, error) {
	i, known := 0, false
	if g != nil {
		i, known = g.at[key]
	}
	if !known {
		return true, nil
	}
	open := true
	for _, k := range g.After[i] {
		if g.doors[k].shut != "" {
			return false, &HeldBack{g.doors[k].shut}
		}
		open = open && g.doors[k].awaited == 0
	}
	return open, nil
}

// ended takes note of a machine's end. It reports whether others may now pass, or never
// will: those behind one that was held back itself are held back by the same.
func (g *Gates) ended(key machine.Key, err error) (moved bool) {
	if g == nil {
		return false
	}
	i, known := g.at[key]
	if !known {
		return false
	}
	for _, k := range g.Within[i] {
		d := &g.doors[k]
		d.awaited--
		if err != nil && d.shut == "" {
			d.shut = key.Name
			var held *HeldBack
			if errors.As(err, &held) {
				d.shut = held.By
			}
		}
		moved = moved || d.awaited == 0 || err != nil
	}
	return moved
}

// again are the same gates, for somebody who only looks what would come to pass.
func (g *Gates) again() *Gates {
	if g == nil {
		return nil
	}
	copied := *g
	copied.doors = slices.Clone(g.doors)
	return &copied
}

// behind is, for each of some machines, the longest chain of those that come after it, if each
// takes what own tells.
func (g *Gates) behind(works []proof.Work, own func(proof.Work) time.Duration) []time.Duration {
	at := make([]int, len(g.Nodes))
	for i, w := range works {
		if n, known := g.at[w.Key]; known {
			at[n] = i + 1
		}
	}
	all := make([]time.Duration, len(works))
	for n, d := range g.Behind(func(n int) time.Duration {
		if at[n] == 0 {
			return 0
		}
		return own(works[at[n]-1])
	}) {
		if at[n] > 0 {
			all[at[n]-1] = d
		}
	}
	return all
}
