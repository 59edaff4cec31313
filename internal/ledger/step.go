package ledger

import (
	"context"
	"database/sql"
	"time"

	"mintbatch/internal/core/machine"
)

// Step is one act on one machine as the journal has it: written before the
// act starts, and again after it ends.
type Step struct {
	machine.Key
	Generation int
	Step       string
	Input      string // digest of what the step was given
	State      StepState
	Error      string
	Run        string
}

// StepState is how far a step is.
type StepState string

// The states of a step. One that is begun and neither done nor failed was
// interrupted: nobody knows how far the site got.
const (
	Begun  StepState = "begun"
	Done   StepState = "done"
	Failed StepState = "failed"
)

// Steps returns the journal of one machine's generation, by step.
func (l *Ledger) Steps(ctx context.Context, key machine.Key, generation int) (map[string]Step, error) {
	all := map[string]Step{}
	err := l.read(ctx, `SELECT step, input, state, error, run FROM steps WHERE site = ? AND machine = ? AND generation = ?`, func(row *sql.Rows) error {
		s := Step{Key: key, Generation: generation}
		if err := row.Scan(&s.Step, &s.Input, &s.State, &s.Error, &s.Run); err != nil {
			return err
		}
		all[s.Step] = s
		return nil
	}, key.Site, key.Name, generation)
	return all, err
}

// Journal writes a step's state.
func (l *Ledger) Journal(ctx context.Context, s Step) error {
	return l.write(ctx, func(tx *transaction) error {
		if s.State == Begun {
			_, err := tx.Exec(`INSERT INTO steps (site, machine, generation, step, input, state, run, began) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
				ON CONFLICT (site, machine, generation, step) DO UPDATE SET input = excluded.input, state = excluded.state, error = '', run = excluded.run,
					began = excluded.began, ended = ''`,
				s.Site, s.Name, s.Generation, s.Step, s.Input, s.State, s.Run, now())
			return err
		}
		_, err := tx.Exec(`UPDATE steps SET state = ?, error = ?, ended = ? WHERE site = ? AND machine = ? AND generation = ? AND step = ?`,
			s.State, s.Error, now(), s.Site, s.Name, s.Generation, s.Step)
		return err
	})
}

// Timing is how long a step of a machine took.
type Timing struct {
	machine.Key
	Step string
	Took time.Duration
}

// Timings tells how long the steps took that were done last, at most so many.
func (l *Ledger) Timings(ctx context.Context, most int) ([]Timing, error) {
	var all []Timing
	err := l.read(ctx, `SELECT site, machine, step, began, ended FROM steps WHERE state = 'done' AND ended <> '' ORDER BY ended DESC LIMIT ?`, func(row *sql.Rows) error {
		var t Timing
		var began, ended string
		err := row.Scan(&t.Site, &t.Name, &t.Step, &began, &ended)
		t.Took = parseTime(ended).Sub(parseTime(began))
		all = append(all, t)
		return err
	}, most)
	return all, err
}
