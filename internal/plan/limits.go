package plan

import (
	"cmp"
	"time"

	"mintbatch/internal/core/setup"
	"mintbatch/internal/input"
	"mintbatch/internal/run"
)

// Slots is how many machines of a site are worked on in parallel.
func Slots(b *input.Batch, name string) int { return cmp.Or(b.Setup.Sites[name].Parallel.Machines, 8) }

// Limits are what the setup says of how much goes on at once, at every site.
func Limits(b *input.Batch) map[string]run.Limits {
	atOnce := func(p setup.Parallel) run.Parallel {
		return run.Parallel{run.AnyStep: p.Machines, run.FullClone: p.FullClones, run.Starting: p.Starts, run.Confirming: p.Confirms}
	}
	all := map[string]run.Limits{}
	for name, from := range b.Setup.Sites {
		whole := from.Parallel
		whole.Machines = Slots(b, name)
		whole.FullClones = cmp.Or(whole.FullClones, whole.Machines-whole.Machines/4) // so that others get through
		whole.Confirms = cmp.Or(whole.Confirms, 256)
		all[name] = run.Limits{Site: atOnce(whole), Host: atOnce(from.PerHost), Store: atOnce(from.PerStore)}
	}
	return all
}

// Times are what the setup says of how long acts may take.
func Times(b *input.Batch) map[run.Slot]time.Duration {
	l := b.Setup.Limits
	task := cmp.Or(l.Task, 30*time.Minute)
	return map[run.Slot]time.Duration{run.AnyStep: task, run.FullClone: cmp.Or(l.Copy, task), run.Starting: cmp.Or(l.Start, task), run.Confirming: cmp.Or(l.Confirm, 10*time.Minute)}
}
