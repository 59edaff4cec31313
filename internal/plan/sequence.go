package plan

import (
	"slices"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/sequence"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
	"mintbatch/internal/run"
)

// Sequence finds out which machines are started after which others, by the sheet, and by the
// ledger for those that no row asks for.
func Sequence(b *input.Batch, known []ledger.Machine) (*sequence.Sequence, finding.List) {
	var others []sequence.Node
	if len(known) > 0 {
		wanted := b.ByKey()
		for _, k := range known {
			if wanted[k.Key] == nil {
				spec := k.Spec()
				others = append(others, sequence.NodeOf(k.Key, &spec))
			}
		}
	}
	s, found := batch.Sequence(b.Wanted, others, b.Named)
	if b.Findings.Failed() { // a row with an error may make no machine
		found = slices.DeleteFunc(found, func(f finding.Finding) bool { return f.Code == "unknown-after" })
	}
	return s, found
}

// Gates hold back those of some works that come after machines which are not up. Done are
// machines that were made since the plan was.
func (p *Plan) Gates(works []proof.Work, done map[machine.Key]bool) *run.Gates {
	if p.sequence.IsEmpty() {
		return nil
	}
	off := map[machine.Key]bool{}
	for _, w := range p.Works {
		off[w.Key] = (w.Word == proof.Same || w.Word == proof.Dated) && w.Power == machine.Off && w.Spec().Power.Rests() == machine.On
	}
	return run.NewGates(p.sequence, keysOf(works), func(key machine.Key) string {
		switch {
		case !p.made[key] && !done[key]:
			return key.Name + ", which is not made"
		case off[key]:
			return key.Name + ", which is off"
		}
		return ""
	})
}

// GatesAmong hold back those of some works that come after others of them; unless they are to
// go up, those that others come after.
func GatesAmong(works []proof.Work, up bool) *run.Gates {
	var nodes []sequence.Node
	for _, w := range works {
		if w.Slim != nil {
			nodes = append(nodes, sequence.NodeOf(w.Key, &w.Machine().Spec))
		}
	}
	s := sequence.Of(nodes)
	if s.IsEmpty() {
		return nil
	}
	if !up {
		s = s.Reversed()
	}
	return run.NewGates(s, keysOf(works), func(machine.Key) string { return "" })
}

func keysOf(works []proof.Work) []machine.Key {
	keys := make([]machine.Key, len(works))
	for i, w := range works {
		keys[i] = w.Key
	}
	return keys
}

// Sorted lists works so that each is behind those that it comes after.
func (p *Plan) Sorted(works []proof.Work) []proof.Work {
	if p.sequence.IsEmpty() {
		return works
	}
	at := make(map[machine.Key]int, len(works))
	for i, w := range works {
		at[w.Key] = i
	}
	all := make([]proof.Work, 0, len(works))
	for _, n := range p.sequence.Sorted() {
		if i, has := at[p.sequence.Nodes[n].Key]; has {
			all = append(all, works[i])
		}
	}
	return all
}
