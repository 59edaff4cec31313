package mint

import (
	"context"
	"slices"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/ledger"
	"mintbatch/internal/run"
)

// mostTimings is how far back earlier runs are looked at.
const mostTimings = 5000

// guessedSpeed is at what a full clone is guessed, in a second, where no earlier
// run tells.
const guessedSpeed = 100 * machine.MiB

// kindOf is what the times of machines are told apart by.
type kindOf struct {
	site, template string
	clone          machine.CloneKind
	step           run.Step
}

// mean is of some durations.
type mean struct {
	sum time.Duration
	n   int
}

func (m *mean) add(d time.Duration) { m.sum, m.n = m.sum+d, m.n+1 }

func (m *mean) of() (time.Duration, bool) {
	if m == nil || m.n == 0 {
		return 0, false
	}
	return m.sum / time.Duration(m.n), true
}

// pace learns from earlier runs how long steps take: from those of the same
// template at the same site, else from all at the site.
func (s *Session) pace(ctx context.Context, known []ledger.Machine, surveys map[string]*survey.Survey) error {
	timings, err := s.Ledger.Timings(ctx, mostTimings)
	if err != nil {
		return err
	}
	specs := map[machine.Key]*machine.Spec{}
	for i := range known {
		specs[known[i].Key] = &known[i].Spec
	}
	means := map[kindOf]*mean{}
	for _, t := range timings {
		spec := specs[t.Key]
		if spec == nil {
			continue
		}
		for _, k := range []kindOf{{t.Site, spec.Clone.Template, spec.Clone.Kind, run.Step(t.Step)}, {t.Site, "", spec.Clone.Kind, run.Step(t.Step)}} {
			if means[k] == nil {
				means[k] = &mean{}
			}
			means[k].add(t.Took)
		}
	}
	// Without one machine that came to its end nothing honest can be said.
	s.learnt = slices.ContainsFunc(timings, func(t ledger.Timing) bool { return t.Step == string(run.Confirm) })
	s.paced = func(w proof.Work, step run.Step) time.Duration {
		if w.Machine == nil {
			return 0
		}
		c := w.Machine.Clone
		if d, ok := means[kindOf{w.Site, c.Template, c.Kind, step}].of(); ok {
			return d
		}
		if d, ok := means[kindOf{w.Site, "", c.Kind, step}].of(); ok && step != run.Clone {
			return d
		}
		if step == run.Clone && c.Kind == machine.Full && surveys[w.Site] != nil {
			for _, t := range surveys[w.Site].Templates {
				if t.Name == c.Template {
					return time.Duration(float64(t.Used) / float64(guessedSpeed) * float64(time.Second))
				}
			}
		}
		return 0
	}
	return nil
}

// expected is about how long the copy of a machine takes.
func (s *Session) expected(w proof.Work) time.Duration {
	if s.paced == nil {
		return 0
	}
	return s.paced(w, run.Clone)
}

// Estimate tells about how long some work will take by what earlier runs took;
// false if there were none.
func (s *Session) Estimate(works []proof.Work) (time.Duration, bool) {
	if !s.learnt || len(works) == 0 {
		return 0, false
	}
	return run.Estimate(works, s.limits(), s.paced), true
}
