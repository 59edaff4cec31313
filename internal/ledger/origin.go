package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"mintbatch/internal/core/machine"
)

// setOrigin writes what of a machine bears the name of another.
func setOrigin(tx transaction, key machine.Key, origin machine.Origin) error {
	if origin.IsZero() {
		return tx.Exec(`DELETE FROM origins WHERE site = ? AND machine = ?`, key.Site, key.Name)
	}
	return tx.Exec(`INSERT INTO origins (site, machine, origin) VALUES (?, ?, ?)
		ON CONFLICT (site, machine) DO UPDATE SET origin = excluded.origin`, key.Site, key.Name, encode(origin))
}

// originOf reads what of a machine bears the name of another.
func originOf(tx transaction, key machine.Key) (origin machine.Origin, err error) {
	var text string
	err = tx.QueryRow(`SELECT origin FROM origins WHERE site = ? AND machine = ?`, key.Site, key.Name).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return origin, nil
	}
	if err == nil && json.Unmarshal([]byte(text), &origin) != nil {
		err = damaged(fmt.Sprintf("%s: its origin", key))
	}
	return origin, err
}

// Rename writes that a machine has another name. All that the ledger has of it goes with it.
// Its old name has spent its generation, so that no later machine has its identity.
func (l *Ledger) Rename(ctx context.Context, run string, from machine.Key, to machine.Machine, tell ...Outgoing) error {
	return l.write(ctx, func(tx transaction) error {
		var generation, taken int
		if err := tx.QueryRow(`SELECT generation FROM machines WHERE site = ? AND name = ?`, from.Site, from.Name).Scan(&generation); err != nil {
			return err
		}
		if err := tx.QueryRow(`SELECT count(*) FROM machines WHERE site = ? AND lower(name) = lower(?)`, to.Site, to.Name).Scan(&taken); err != nil {
			return err
		}
		if taken > 0 {
			return fmt.Errorf("the ledger has a machine %s already", to.Key)
		}
		origin, err := originOf(tx, from)
		if err != nil {
			return err
		}
		origin = origin.Renamed(from.Name, to.Name)
		if err := errors.Join(setOrigin(tx, from, machine.Origin{}), setOrigin(tx, to.Key, origin), spend(tx, from, generation)); err != nil {
			return err
		}
		if err := tx.Exec(`UPDATE machines SET name = ?, spec = ?, run = ?, changed = ? WHERE site = ? AND name = ?`, to.Name, encode(to.Spec), run, now(), from.Site, from.Name); err != nil {
			return err
		}
		for _, table := range append([]string{"reservations", "outbox"}, ofMachine...) {
			if err := tx.Exec(`UPDATE `+table+` SET machine = ? WHERE site = ? AND machine = ?`, to.Name, from.Site, from.Name); err != nil {
				return err
			}
		}
		if err := errors.Join(closeJournal(tx, to.Key, "renamed"), releaseClaim(tx, run, from)); err != nil {
			return err
		}
		return errors.Join(putOutbox(tx, tell), note(tx, Event{Run: run, Key: from, What: "renamed", Detail: "to " + to.Name}), note(tx, Event{Run: run, Key: to.Key, What: "renamed", Detail: "from " + from.Name}))
	})
}

// origins reads those of some machines.
func (l *Ledger) origins(ctx context.Context, which selection) (map[machine.Key]machine.Origin, error) {
	all := map[machine.Key]machine.Origin{}
	if err := l.checkRows(ctx, "origins", which.condition, which.args...); err != nil {
		return nil, err
	}
	err := l.read(ctx, `SELECT site, machine, origin FROM origins WHERE `+which.condition, func(row *sql.Rows) error {
		var key machine.Key
		var text string
		if err := row.Scan(&key.Site, &key.Name, &text); err != nil {
			return err
		}
		var origin machine.Origin
		if err := json.Unmarshal([]byte(text), &origin); err != nil {
			return damaged(fmt.Sprintf("%s: %s", key, err))
		}
		all[key] = origin
		return nil
	}, which.args...)
	return all, err
}
