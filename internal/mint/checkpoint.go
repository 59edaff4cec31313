package mint

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
)

// Kept is a checkpoint of a machine.
type Kept struct {
	machine.Key
	Checkpoint string    `json:"checkpoint"`
	Taken      time.Time `json:"taken"`
	Running    bool      `json:"running,omitempty"` // it has the memory, too
}

// Checkpoints lists those of machines that are named, or of all, by machine and time.
// Machines that cannot be asked about are reported in the error.
func (d *Desk) Checkpoints(ctx context.Context, names []string) ([]Kept, error) {
	known, err := d.Known(ctx, names)
	if err != nil {
		return nil, err
	}
	works := make([]proof.Work, len(known))
	for i, k := range known {
		works[i] = proof.Work{Key: k.Key, Identity: k.ID(d.Ledger.ID)}
	}
	all := []Kept{}
	machines, err := d.ask(ctx, works)
	for i, m := range machines {
		if m == nil {
			continue
		}
		for _, c := range m.Checkpoints {
			all = append(all, Kept{works[i].Key, c.Name, c.Taken, c.Running})
		}
	}
	return all, err
}

// unasked is the error of machines that could not be asked about: one for all of a site that have the same.
func unasked(works []proof.Work, failed []error) error {
	type same struct{ site, why string }
	names, causes := map[same][]string{}, map[same]error{}
	var order []same
	for i, err := range failed {
		if err == nil {
			continue
		}
		is := same{works[i].Site, err.Error()}
		if causes[is] == nil {
			causes[is], order = err, append(order, is)
		}
		names[is] = append(names[is], works[i].Name)
	}
	var all []error
	for _, is := range order {
		all = append(all, fmt.Errorf("%s of site %s: %w", strings.Join(machine.NameRanges(names[is]), " "), is.site, causes[is]))
	}
	return errors.Join(all...)
}

// ask asks the sites about machines. Those that cannot be asked about are nil, and reported in the error.
func (d *Desk) ask(ctx context.Context, works []proof.Work) ([]*contract.Machine, error) {
	machines, failed := make([]*contract.Machine, len(works)), make([]error, len(works))
	silent, unanswered := d.silent(ctx, works)
	d.sideBySide(works, func(i int, at site.Site, err error) {
		switch {
		case silent[works[i].Site]: // which is reported
		case err != nil:
			failed[i] = err
		default:
			machines[i], failed[i] = at.Machine(ctx, works[i].Identity)
		}
	})
	return machines, errors.Join(unanswered, unasked(works, failed))
}

// silent finds, of many machines, the sites that do not answer at all, and that are not to be asked about each.
func (d *Desk) silent(ctx context.Context, works []proof.Work) (map[string]bool, error) {
	if len(works) <= fewNames {
		return nil, nil
	}
	silent := map[string]bool{}
	for _, w := range works {
		silent[w.Site] = true
	}
	answers, err := d.Sites.AskAll(ctx, silent)
	for name := range answers {
		delete(silent, name)
	}
	return silent, err
}

// CheckpointAct is what can be done with a checkpoint of machines.
type CheckpointAct string

// The acts.
const (
	KeepCheckpoint    CheckpointAct = "keep"
	RestoreCheckpoint CheckpointAct = "restore"
	DropCheckpoint    CheckpointAct = "drop"
)

// Checkpointing is the task of an act on a checkpoint of machines. Machines of which that
// cannot be done are refused.
func (d *Desk) Checkpointing(ctx context.Context, a CheckpointAct, c machine.Checkpoint, names []string, o Order) (Task, error) {
	o.Checkpoint = c
	t := Task{Command: fmt.Sprintf("checkpoint %s --name %s", a, c.Name), Order: o, up: true}
	t.do = map[CheckpointAct]func(*run.Engine, context.Context, context.Context, []proof.Work) []run.Result{
		KeepCheckpoint: (*run.Engine).Keep, RestoreCheckpoint: (*run.Engine).Restore, DropCheckpoint: (*run.Engine).Drop}[a]
	works, refused, err := d.everyday(ctx, t.Command, names, func(k *proof.Known) bool {
		switch {
		case k.State != proof.Made || k.Open.Has(step.Remove) || k.Open.BeingRenamed():
			return false
		case k.Open.Has(step.Restore), k.Open.Has(step.Clean):
			return a == RestoreCheckpoint
		}
		return a == DropCheckpoint || k.Open.OnlyBy("checkpoint ")
	})
	if err != nil {
		return t, err
	}
	machines, err := d.ask(ctx, works)
	if err != nil {
		return t, err
	}
	t.Refused = refused
	for i, w := range works {
		kept, has := machines[i].Has(c.Name)
		switch {
		case w.Begun && a != RestoreCheckpoint: // an earlier run of the same command may have done it
		case a == KeepCheckpoint && has:
			w.Refusal = fmt.Sprintf("it has a checkpoint %s, kept %s: choose another name, or drop it first", kept.Name, kept.Taken.Local().Format("2006-01-02 15:04"))
		case a != KeepCheckpoint && !has:
			w.Refusal = fmt.Sprintf("it has no checkpoint %s", c.Name)
		}
		if w.Refusal != "" {
			t.Refused = append(t.Refused, w)
		} else {
			t.Works = append(t.Works, w)
		}
	}
	slices.SortFunc(t.Refused, func(a, b proof.Work) int { return cmp.Or(cmp.Compare(a.Site, b.Site), cmp.Compare(a.Name, b.Name)) })
	return t, nil
}

// CheckpointQuestion asks before that, and says what is lost.
func (t Task) CheckpointQuestion(a CheckpointAct) Question {
	machines, name := finding.Plural(len(t.Works), "machine"), t.Order.Checkpoint.Name
	switch a {
	case RestoreCheckpoint:
		return Question{Text: fmt.Sprintf("Restore %s to %s (what the disks have got since is lost)?", machines, name), Word: wordFor(len(t.Works))}
	case DropCheckpoint:
		return Question{Text: fmt.Sprintf("Drop the checkpoint %s of %s?", name, machines), Word: "yes"}
	}
	return Question{Text: fmt.Sprintf("Keep %s as the checkpoint %s?", machines, name), Word: "yes"}
}
