package mint

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
	"mintbatch/internal/run"
)

// ErrExtend means that machines cannot have the dates that were asked for.
var ErrExtend = errors.New("it cannot be extended")

// Dates are the last day on which a machine is needed, and that of its disks; an empty one stays.
type Dates struct{ Until, Keep string }

// Extending is the task of giving machines other dates. They hold for as long as the rows of the machines have the dates that they
// have now; of a machine without a row in the sheet, those that it was made with. What a sweep has shut down is started again, if
// the date is not over.
func (d *Desk) Extending(ctx context.Context, names []string, to Dates, o Order) (Task, error) {
	t := Task{Command: "extend", Order: o, do: (*run.Engine).Extend, up: true}
	for _, date := range []string{to.Until, to.Keep} {
		if _, err := time.Parse(time.DateOnly, date); date != "" && err != nil {
			return t, fmt.Errorf("%w: %q is not a date; write it as 2027-03-31", ErrExtend, date)
		}
	}
	today := time.Now().Format(time.DateOnly)
	rows := d.ByKey()
	works, refused, err := d.everyday(ctx, t.Command, names, func(k *proof.Known) bool {
		return k.State == proof.Made && !slices.ContainsFunc(k.Open, func(s proof.OpenStep) bool {
			return s.Command != t.Command && !(s.Step == string(step.Stop) && (s.Command == "sweep" || s.Command == proof.PowerOff))
		})
	})
	if err != nil {
		return t, err
	}
	t.Refused = refused
	for _, w := range works {
		slim, made := *w.Slim, w.Info
		w.Slim = &slim
		base := made.Dates()
		if made.Extended != "" {
			base = made.Extended
		}
		if row := rows[w.Key]; row != nil {
			base = row.Info.Dates()
		}
		is := &slim.Info
		is.Extended = base
		if to.Until != "" {
			is.Until = to.Until
		}
		if to.Keep != "" {
			is.Keep = to.Keep
		} else if is.Keep != "" && is.Keep < is.Until {
			is.Keep = is.Until // else its disks would go before
		}
		if is.Keep != "" && is.Keep < is.Until {
			return t, fmt.Errorf("%w: the disks of %s would go on %s, before it is not needed any more (until %s)", ErrExtend, w.Name, is.Keep, is.Until)
		}
		for _, c := range []struct{ field, from, to string }{{"until", made.Until, is.Until}, {"keep", made.Keep, is.Keep}} {
			if c.from != c.to {
				w.Reasons = append(w.Reasons, proof.Reason{Field: c.field, From: c.from, To: c.to})
			}
		}
		w.Redo = w.Swept && (is.Until == "" || is.Until >= today)
		w.LeftOff = ""
		t.Works = append(t.Works, w)
	}
	return t, nil
}

// ExtendQuestion asks before that.
func (t Task) ExtendQuestion() Question {
	starts := 0
	for _, w := range t.Works {
		if w.Redo {
			starts++
		}
	}
	q := Question{Text: fmt.Sprintf("Extend %s?", finding.Plural(len(t.Works), "machine")), Word: "yes"}
	if starts > 0 {
		q.Text = fmt.Sprintf("Extend %s, and start %d of them?", finding.Plural(len(t.Works), "machine"), starts)
	}
	return q
}
