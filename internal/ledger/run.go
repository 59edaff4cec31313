package ledger

import (
	"context"
	"database/sql"
	"fmt"
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
	Outcome string    // CutOff if it has no end; empty while it is under way
}

// String reports a run that is under way.
func (r Run) String() string {
	return fmt.Sprintf("run %s (%s by %s on %s, since %s UTC)", r.ID, r.Command, r.User, r.Host, utc(r.Started))
}

func utc(t time.Time) string { return t.UTC().Format(time.TimeOnly) }

// Runs returns all runs, the oldest first.
func (l *Ledger) Runs(ctx context.Context) ([]Run, error) {
	var all []Run
	if err := l.checkRows(ctx, "runs", ""); err != nil {
		return nil, err
	}
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
