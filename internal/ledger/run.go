package ledger

import (
	"context"
	"database/sql"
	"time"
)

// Run is one invocation of a command that changes something.
type Run struct {
	ID      string
	Command string
	User    string
	Host    string
	Sheet   string // digests of what was read
	Setup   string
	Started time.Time
	Ended   time.Time // zero while it is under way, or when it was killed
	Outcome string
}

// StartRun writes that a run begins.
func (l *Ledger) StartRun(ctx context.Context, r Run) error {
	return l.write(ctx, func(tx *transaction) error {
		_, err := tx.Exec(`INSERT INTO runs (id, command, user_name, host_name, sheet, setup, started) VALUES (?, ?, ?, ?, ?, ?, ?)`,
			r.ID, r.Command, r.User, r.Host, r.Sheet, r.Setup, now())
		return err
	})
}

// EndRun writes how a run ended.
func (l *Ledger) EndRun(ctx context.Context, id, outcome string) error {
	return l.write(ctx, func(tx *transaction) error {
		_, err := tx.Exec(`UPDATE runs SET ended = ?, outcome = ? WHERE id = ?`, now(), outcome, id)
		return err
	})
}

// Runs returns all runs, the oldest first.
func (l *Ledger) Runs(ctx context.Context) ([]Run, error) {
	var all []Run
	err := l.read(ctx, `SELECT id, command, user_name, host_name, sheet, setup, started, ended, outcome FROM runs ORDER BY started`, func(row *sql.Rows) error {
		var r Run
		var started, ended string
		if err := row.Scan(&r.ID, &r.Command, &r.User, &r.Host, &r.Sheet, &r.Setup, &started, &ended, &r.Outcome); err != nil {
			return err
		}
		r.Started, r.Ended = parseTime(started), parseTime(ended)
		all = append(all, r)
		return nil
	})
	return all, err
}
