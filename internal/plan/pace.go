package plan

import (
	"context"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
	"mintbatch/internal/ledger"
	"mintbatch/internal/run"
	"mintbatch/internal/sites"
)

// mostTimings is how many machines of earlier runs are looked at.
const mostTimings = 1000

// guessedSpeed is at what a full clone is guessed, in a second, where no earlier
// run tells.
const guessedSpeed = 100 * machine.MiB

// kindOf is what the times of machines are distinguished by.
type kindOf struct {
	site, template string
	clone          machine.CloneKind
	step           step.Name
}

// mean is of some durations, of which it also knows the longest.
type mean struct {
	sum, shortest, longest time.Duration
	n                      int
}

func (m *mean) add(d time.Duration) {
	if m.n == 0 || d < m.shortest {
		m.shortest = d
	}
	m.sum, m.longest, m.n = m.sum+d, max(m.longest, d), m.n+1
}

// least is what few come below: one that an earlier run had done may have taken no time.
func (m *mean) least() time.Duration {
	if m == nil || m.n == 0 {
		return 0
	}
	return max(m.shortest, m.sum/time.Duration(m.n)/4)
}

// of is what a step is expected to take: a guest's report as long as the slowest so
// far, since a batch waits for the last one; all else what it takes on average.
func (m *mean) of(name step.Name) (time.Duration, bool) {
	switch {
	case m == nil || m.n == 0:
		return 0, false
	case name == step.Confirm:
		return m.longest, true
	}
	return m.sum / time.Duration(m.n), true
}

// pace is how long steps take, going by earlier runs.
type pace struct {
	of run.Pace
	// learnt is set if a machine came to its end in an earlier run: without one nothing
	// honest can be said.
	learnt bool
	// least is what a step took at least, or nearly so.
	least run.Pace
}

// learn finds out from earlier runs how long steps take: from those of the same
// template at the same site, else from all at the site.
func (p *Planner) learn(ctx context.Context, known []ledger.Machine, asked sites.Surveys) (pace, error) {
	timings, err := p.Ledger.Timings(ctx, mostTimings)
	if err != nil {
		return pace{}, err
	}
	specs := map[machine.Key]*machine.Spec{}
	for i := range known {
		specs[known[i].Key] = known[i].Common()
	}
	means := map[kindOf]*mean{}
	learnt := false
	for _, t := range timings {
		_, confirmed := t.Steps[string(step.Confirm)]
		learnt = learnt || confirmed
		spec := specs[t.Key]
		if spec == nil {
			continue
		}
		for name, took := range t.Steps {
			for _, k := range []kindOf{{t.Site, spec.Clone.Template, spec.Clone.Kind, step.Name(name)}, {t.Site, "", spec.Clone.Kind, step.Name(name)}} {
				if means[k] == nil {
					means[k] = &mean{}
				}
				means[k].add(took)
			}
		}
	}
	of := func(w proof.Work, name step.Name) time.Duration {
		if w.Slim == nil {
			return 0
		}
		c := w.Spec().Clone
		if d, ok := means[kindOf{w.Site, c.Template, c.Kind, name}].of(name); ok {
			return d
		}
		if d, ok := means[kindOf{w.Site, "", c.Kind, name}].of(name); ok && name != step.Clone {
			return d
		}
		if name == step.Clone && c.Kind == machine.Full && asked[w.Site] != nil {
			for _, t := range asked[w.Site].Templates {
				if t.Name == c.Template {
					return time.Duration(float64(t.Used) / float64(guessedSpeed) * float64(time.Second))
				}
			}
		}
		return 0
	}
	least := func(w proof.Work, name step.Name) time.Duration {
		if w.Slim == nil {
			return 0
		}
		return means[kindOf{w.Site, w.Spec().Clone.Template, w.Spec().Clone.Kind, name}].least()
	}
	return pace{of, learnt, least}, nil
}

// Least is about how long a step of a machine took at least in earlier runs; 0 if nothing
// is known.
func (p *Plan) Least(w proof.Work, name step.Name) time.Duration {
	if p.pace.least == nil {
		return 0
	}
	return p.pace.least(w, name)
}

// Expected is about how long the copy of a machine takes; 0 if nothing is known.
func (p *Plan) Expected(w proof.Work) time.Duration {
	if p.pace.of == nil {
		return 0
	}
	return p.pace.of(w, step.Clone)
}

// Estimate reports about how long some work will take by what earlier runs took;
// false if there were none.
func (p *Plan) Estimate(works []proof.Work) (time.Duration, bool) {
	if !p.pace.learnt || len(works) == 0 {
		return 0, false
	}
	return run.Estimate(works, Limits(p.batch), p.pace.of, p.Gates(works, nil)), true
}
