package ledger

import (
	"context"
	"errors"

	"github.com/google/uuid"

	"mintbatch/internal/core/proof"
)

// ErrNotEmpty means that a ledger has a word of its own to say.
var ErrNotEmpty = errors.New("the ledger is not empty")

// Adopt gives an empty ledger the id of one that was lost, so that the
// identities of its machines are known again.
func (l *Ledger) Adopt(ctx context.Context, id uuid.UUID) error {
	err := l.write(ctx, func(tx *transaction) error { return adopt(tx, id) })
	if err == nil {
		l.ID = id
	}
	return err
}

func adopt(tx *transaction, id uuid.UUID) error {
	for _, table := range []string{"machines", "reservations", "runs"} {
		var n int
		if err := tx.QueryRow(`SELECT count(*) FROM ` + table).Scan(&n); err != nil {
			return err
		}
		if n > 0 {
			return ErrNotEmpty
		}
	}
	_, err := tx.Exec(`UPDATE about SET value = ? WHERE name = 'id'`, id.String())
	return err
}

// Restore writes down a machine that a site has and the ledger has lost.
func (l *Ledger) Restore(ctx context.Context, run string, m Machine, reserved []Reservation) error {
	return l.write(ctx, func(tx *transaction) error {
		if err := reserve(tx, m.Key, reserved); err != nil {
			return err
		}
		_, err := tx.Exec(`INSERT INTO machines (site, name, generation, state, spec, host, store, run, changed) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			m.Site, m.Name, m.Generation, proof.Made, encode(m.Spec), m.Host, m.Store, run, now())
		if err != nil {
			return err
		}
		return note(tx, Event{Run: run, Key: m.Key, What: "put back"})
	})
}
