package ledger

import (
	"context"
	"database/sql"

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
	if err := l.checkRows(ctx, "steps", "site = ? AND machine = ? AND generation = ?", key.Site, key.Name, generation); err != nil {
		return nil, err
	}
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
	return l.write(ctx, func(tx transaction) error {
		if s.State == Begun {
			return begin(tx, s)
		}
		return tx.Exec(`UPDATE steps SET state = ?, error = ?, ended = ? WHERE site = ? AND machine = ? AND generation = ? AND step = ?`,
			s.State, s.Error, now(), s.Site, s.Name, s.Generation, s.Step)
	})
}

// Fail writes why a machine's work has failed at a step, in the journal and in the
// history. A step that is begun stays so: how far the site got is not known.
func (l *Ledger) Fail(ctx context.Context, s Step, what string) error {
	return l.write(ctx, func(tx transaction) error {
		err := tx.Exec(`INSERT INTO steps (site, machine, generation, step, input, state, error, run, began, ended) VALUES (?, ?, ?, ?, '', ?, ?, ?, ?, ?)
			ON CONFLICT (site, machine, generation, step) DO UPDATE SET error = excluded.error, run = excluded.run, ended = excluded.ended`,
			s.Site, s.Name, s.Generation, s.Step, Failed, s.Error, s.Run, now(), now())
		if err != nil {
			return err
		}
		return note(tx, Event{Key: s.Key, Run: s.Run, What: what, Detail: s.Error})
	})
}

func begin(tx transaction, s Step) error {
	return tx.Exec(`INSERT INTO steps (site, machine, generation, step, input, state, run, began) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (site, machine, generation, step) DO UPDATE SET input = excluded.input, state = excluded.state, error = '', run = excluded.run,
			began = excluded.began, ended = ''`,
		s.Site, s.Name, s.Generation, s.Step, s.Input, Begun, s.Run, now())
}
