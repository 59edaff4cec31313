package ledger

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/request"
)

// ErrNotEmpty means that a ledger has a word of its own to say.
var ErrNotEmpty = errors.New("the ledger is not empty")

// Adopt gives an empty ledger the id of one that was lost, so that the
// identities of its machines are known again.
func (l *Ledger) Adopt(ctx context.Context, id uuid.UUID) error {
	err := l.write(ctx, func(tx transaction) error { return adopt(tx, id) })
	if err == nil {
		l.ID = id
	}
	return err
}

func adopt(tx transaction, id uuid.UUID) error {
	for _, table := range []string{"machines", "reservations", "runs"} {
		var n int
		if err := tx.QueryRow(`SELECT count(*) FROM ` + table).Scan(&n); err != nil {
			return err
		}
		if n > 0 {
			return ErrNotEmpty
		}
	}
	return tx.Exec(`UPDATE about SET value = ? WHERE name = 'id'`, id.String())
}

// Restore writes down a machine that a site has and the ledger has lost, or lost
// sight of. An address that somebody else holds stays with whom it is. One that is
// unfinished counts as started. If it is of a request, by its id, that is known again, too.
func (l *Ledger) Restore(ctx context.Context, run string, m Machine, reserved []Reservation, of string) error {
	return l.write(ctx, func(tx transaction) error {
		if err := reserve(tx, m.Key, nil); err != nil {
			return err
		}
		for _, r := range reserved {
			// What is only promised or resting gives way to what is in use.
			if err := tx.Exec(`DELETE FROM reservations WHERE network = ? AND address = ? AND standing IN (?, ?)`,
				r.Network, r.Addr.String(), address.Cooling, address.Reserved); err != nil {
				return err
			}
			if err := insertReservation(tx, r, ""); err != nil && !errors.Is(err, ErrAddressTaken) {
				return err
			}
		}
		var known int // the generation, which may be a later one
		if err := tx.QueryRow(`SELECT generation FROM machines WHERE site = ? AND name = ?`, m.Site, m.Name).Scan(&known); err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if known > m.Generation {
			if err := spend(tx, m.Key, known); err != nil {
				return err
			}
		}
		// What was sealed is of the clone that the ledger knew, which may be another one.
		for _, forget := range []string{`DELETE FROM steps WHERE site = ? AND machine = ?`,
			`DELETE FROM secrets WHERE site = ? AND machine = ? AND NOT EXISTS (SELECT 1 FROM machines WHERE site = secrets.site AND name = secrets.machine AND generation = ?)`,
			`UPDATE machines SET host_key = '' WHERE site = ? AND name = ? AND generation <> ?`} {
			args := []any{m.Site, m.Name, m.Generation}
			if err := tx.Exec(forget, args[:strings.Count(forget, "?")]...); err != nil {
				return err
			}
		}
		err := tx.Exec(`INSERT INTO machines (site, name, generation, state, spec, host, store, run, changed) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (site, name) DO UPDATE SET generation = excluded.generation, state = excluded.state, spec = excluded.spec,
				host = excluded.host, store = excluded.store, run = excluded.run, changed = excluded.changed, earlier = ''`,
			m.Site, m.Name, m.Generation, m.State, encode(m.Spec()), m.Host, m.Store, m.Run, now())
		if err != nil {
			return err
		}
		if err := setOrigin(tx, m.Key, m.Origin); err != nil {
			return err
		}
		if m.Born != "" { // that name has spent the generation
			if err := spend(tx, machine.Key{Site: m.Site, Name: m.Born}, m.Generation); err != nil {
				return err
			}
		}
		if m.State == proof.Making {
			// Nobody knows whether it ever ran: it counts as one that did.
			if err := begin(tx, Step{Key: m.Key, Generation: m.Generation, Step: "start", Run: run}); err != nil {
				return err
			}
		}
		restored := Event{Run: run, Key: m.Key, What: "restored"}
		if of != "" {
			if err := requested(tx, of, m); err != nil {
				return err
			}
			restored.Detail = request.Command(of)
		}
		return note(tx, restored)
	})
}
