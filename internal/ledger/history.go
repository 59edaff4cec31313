package ledger

import (
	"context"
	"database/sql"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
)

// Event is one entry of the history: what was done to a machine, or to an
// address, by whom and in which run.
type Event struct {
	At   time.Time
	Run  string // empty where no run was needed
	User string
	Host string
	machine.Key
	What   string
	Detail string
}

// note writes an event. Who did it is read off its run, if it has one. The order of ids is that of time.
func note(tx transaction, e Event) error {
	return tx.Exec(`INSERT INTO history (id, at, run, user_name, host_name, site, machine, what, detail) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		tx.id(uuid.NewV7), now(), e.Run, e.User, e.Host, e.Site, e.Name, e.What, e.Detail)
}

// Note writes an event that is no step of a run.
func (l *Ledger) Note(ctx context.Context, e Event) error {
	return l.write(ctx, func(tx transaction) error { return note(tx, e) })
}

// History returns all events, or those of the machines of some names, the oldest first.
func (l *Ledger) History(ctx context.Context, names ...string) ([]Event, error) {
	var all []Event
	which := selection{condition: "TRUE"}
	if len(names) > 0 {
		which = in("machine", names)
	}
	if err := l.checkRows(ctx, "history", which.condition, which.args...); err != nil {
		return nil, err
	}
	err := l.read(ctx, `SELECT h.at, h.run, COALESCE(r.user_name, h.user_name), COALESCE(r.host_name, h.host_name), h.site, h.machine, h.what, h.detail
		FROM history h LEFT JOIN runs r ON r.id = h.run WHERE `+which.condition+` ORDER BY h.id`, func(row *sql.Rows) error {
		var e Event
		var at string
		if err := row.Scan(&at, &e.Run, &e.User, &e.Host, &e.Site, &e.Name, &e.What, &e.Detail); err != nil {
			return err
		}
		e.At = parseTime(at)
		all = append(all, e)
		return nil
	}, which.args...)
	return all, err
}
