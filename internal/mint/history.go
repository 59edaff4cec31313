package mint

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
)

// History lists what was done to the machines whose names match, or to all and
// to addresses, the oldest first. Machines that are gone have theirs, too.
func (d *Desk) History(ctx context.Context, globs []string, when Period) ([]ledger.Event, error) {
	all, err := d.history(ctx, globs)
	return slices.DeleteFunc(all, func(e ledger.Event) bool { return !when.Has(e.At, e.User) }), err
}

func (d *Desk) history(ctx context.Context, globs []string) ([]ledger.Event, error) {
	if exact(globs) {
		some, err := d.Ledger.History(ctx, globs...)
		if err != nil || !slices.ContainsFunc(globs, func(name string) bool {
			return !slices.ContainsFunc(some, func(e ledger.Event) bool { return e.Name == name })
		}) {
			return some, err
		}
	}
	all, err := d.Ledger.History(ctx)
	if err != nil || len(globs) == 0 {
		return all, err
	}
	var keys []machine.Key
	for _, e := range all {
		if e.Name != "" {
			keys = append(keys, e.Key)
		}
	}
	keep, err := glob.KeyMatcher(globs, keys, "the history")
	if err != nil {
		return nil, err
	}
	var some []ledger.Event
	for _, e := range all {
		if e.Name != "" && keep(e.Key) {
			some = append(some, e)
		}
	}
	return some, nil
}

// Prune forgets what happened longer ago than so many days. The ledger must be held.
func (d *Desk) Prune(ctx context.Context, days int) (int64, error) {
	return d.Ledger.Prune(ctx, time.Now().AddDate(0, 0, -days))
}

// Unfinished are the machines that the last run has not brought to their end, and that run.
func (d *Desk) Unfinished(ctx context.Context) (run string, names []string, err error) {
	runs, err := d.Ledger.Runs(ctx)
	if err != nil || len(runs) == 0 {
		return "", nil, err
	}
	run = runs[len(runs)-1].ID
	known, err := d.Ledger.Machines(ctx)
	for _, k := range known {
		if slices.ContainsFunc(k.Open, func(s proof.OpenStep) bool { return s.Run == run }) {
			names = append(names, k.Name)
		}
	}
	return "run " + run, names, err
}

// Earlier is a machine as there was one.
type Earlier struct {
	machine.Key
	State  string    `json:"state"` // `made` or `unfinished`
	Since  time.Time `json:"since"`
	Run    string    `json:"run,omitempty"`
	Detail string    `json:"detail,omitempty"` // what was made, or changed last
}

// ListAt reports what there was at a moment, by the history: machines that were made or begun
// before, and not retired.
func (d *Desk) ListAt(ctx context.Context, globs []string, at time.Time) ([]Earlier, error) {
	events, err := d.History(ctx, globs, Period{Until: at})
	there := map[machine.Key]Earlier{}
	for _, e := range events {
		m := Earlier{e.Key, "made", e.At, e.Run, e.Detail}
		switch e.What {
		case "begun":
			m.State = "unfinished"
			there[e.Key] = m
		case "made", "changed", "accepted", "restored", "remake abandoned":
			there[e.Key] = m
		case "retired":
			delete(there, e.Key)
		}
	}
	all := slices.Collect(maps.Values(there))
	slices.SortFunc(all, func(a, b Earlier) int {
		return cmp.Or(strings.Compare(a.Site, b.Site), strings.Compare(a.Name, b.Name))
	})
	return all, err
}

// stages are those of a machine's last first boot, as they ended.
func (d *Desk) stages(ctx context.Context, key machine.Key) (all []string, err error) {
	events, err := d.Ledger.History(ctx, key.Name)
	for _, e := range events {
		switch {
		case e.Key != key:
		case e.What == "begun":
			all = nil
		case e.What == "stage" && !slices.Contains(all, e.Detail): // a run that goes on sees it again
			all = append(all, e.Detail)
		}
	}
	return all, err
}
