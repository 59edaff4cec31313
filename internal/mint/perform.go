package mint

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
)

// Console is how a command informs and asks its user.
type Console interface {
	// Waiting reports that another run has the ledger, or works on machines in the scope.
	Waiting(by *ledger.Busy)
	// Confirm asks for a confirmation; an ErrDeclined means that it was not given.
	Confirm(q Question) error
	// Interactive reports whether somebody can be asked.
	Interactive() bool
	// Log opens the copy of the run's log; nil for none.
	Log() (io.Writer, error)
	// Watch shows works as they are done, until the function that it returns is called.
	Watch(works []proof.Work) (watch func(run.Event), done func())
	// Boundary is called at every boundary of every step, for tests; it may be nil.
	Boundary() func(run.Boundary)
}

// ErrDeclined means that a question was not answered by yes.
var ErrDeclined = errors.New("nothing was done")

// Lock waits for the ledger while others have it, or work on the machines in the scope.
// Until a task is claimed, or the desk closed, others wait in turn.
func (d *Desk) Lock(ctx, stop context.Context, c Console, command string, scope Scope) error {
	user, host := Operator()
	who := fmt.Sprintf("%s by %s on %s", command, user, host)
	for said := ""; ; {
		err := d.Ledger.Lock(ctx, who, scope)
		var busy *ledger.Busy
		if !errors.As(err, &busy) {
			return err
		}
		if said != busy.Error() {
			said = busy.Error()
			c.Waiting(busy)
		}
		select {
		case <-stop.Done():
			return fmt.Errorf("%w: %s", run.ErrStopped, busy)
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// Perform claims a task, asks for a confirmation and does it. Without an outcome nothing
// was begun. About guests that had to shut down and did not, it asks once more at the end.
func (d *Desk) Perform(ctx, stop context.Context, c Console, t Task, q Question) (*Outcome, error) {
	o, err := d.performOnce(ctx, stop, c, t, q)
	if o == nil || t.Order.ForceOff || !c.Interactive() || stop.Err() != nil {
		return o, err
	}
	again := t
	again.Works, again.Refused, again.Order.ForceOff, again.done = nil, nil, true, map[machine.Key]bool{}
	q = Question{Before: "did not shut down when asked:", Word: "yes"}
	for _, r := range o.Results {
		again.done[r.Key] = r.Err == nil
		if errors.Is(r.Err, site.ErrNoShutdown) {
			again.Works = append(again.Works, r.Work)
			q.Before += " " + r.Name
		}
	}
	if len(again.Works) == 0 {
		return o, err
	}
	q.Text = fmt.Sprintf("Power off %s without a shutdown, and continue?", finding.Plural(len(again.Works), "machine"))
	if err := d.Lock(ctx, stop, c, t.Command, Of(again.Works)); err != nil {
		return o, err
	}
	later, failed := d.performOnce(ctx, stop, c, again, q)
	if later == nil {
		if errors.Is(failed, ErrDeclined) {
			failed = nil // things stay as they are
		}
		return o, errors.Join(err, failed)
	}
	merged := o.Merge(later)
	return merged, merged.Err(stop)
}

func (d *Desk) performOnce(ctx, stop context.Context, c Console, t Task, q Question) (*Outcome, error) {
	r, err := d.Claim(ctx, t)
	if err != nil {
		return nil, err
	}
	if len(t.Works) > 0 {
		if err := d.confirm(ctx, c, r, q); err != nil {
			return nil, errors.Join(err, r.Release(ctx))
		}
	}
	log, err := c.Log()
	if err != nil {
		return nil, errors.Join(err, r.Release(ctx))
	}
	watch, done := c.Watch(t.Works)
	defer done()
	return r.Do(ctx, stop, Sinks{Watch: watch, Log: log, Boundary: c.Boundary()})
}

// confirm asks, and says for others that it does.
func (d *Desk) confirm(ctx context.Context, c Console, r *Run, q Question) error {
	if !c.Interactive() {
		return c.Confirm(q)
	}
	if err := d.Ledger.Asking(ctx, r.ID, true); err != nil {
		return err
	}
	err := c.Confirm(q)
	return errors.Join(err, d.Ledger.Asking(context.WithoutCancel(ctx), r.ID, false))
}
