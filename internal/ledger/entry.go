package ledger

import (
	"context"
	"database/sql"
	"encoding/json"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/machine"
)

// PutEntered writes what a machine has, or may have, in the systems around it.
func (l *Ledger) PutEntered(ctx context.Context, key machine.Key, e entry.Entered) error {
	return l.write(ctx, func(tx transaction) error {
		if len(e.Items) == 0 {
			return tx.Exec(`DELETE FROM entries WHERE site = ? AND machine = ?`, key.Site, key.Name)
		}
		return tx.Exec(`INSERT INTO entries (site, machine, entered) VALUES (?, ?, ?)
			ON CONFLICT (site, machine) DO UPDATE SET entered = excluded.entered`, key.Site, key.Name, encode(e))
	})
}

// Entered reads what a machine has, or may have, in the systems around it.
func (l *Ledger) Entered(ctx context.Context, key machine.Key) (entry.Entered, error) {
	all, err := l.entered(ctx, "site = ? AND machine = ?", key.Site, key.Name)
	return all[key], err
}

// AllEntered is Entered of all machines that have something; of those of some names, if any are given.
func (l *Ledger) AllEntered(ctx context.Context, names ...string) (map[machine.Key]entry.Entered, error) {
	which := named(names)
	return l.entered(ctx, which.condition, which.args...)
}

func (l *Ledger) entered(ctx context.Context, where string, args ...any) (map[machine.Key]entry.Entered, error) {
	all := map[machine.Key]entry.Entered{}
	if err := l.checkRows(ctx, "entries", where, args...); err != nil {
		return nil, err
	}
	err := l.read(ctx, `SELECT site, machine, entered FROM entries WHERE `+where, func(row *sql.Rows) error {
		var key machine.Key
		var text string
		if err := row.Scan(&key.Site, &key.Name, &text); err != nil {
			return err
		}
		var e entry.Entered
		if err := json.Unmarshal([]byte(text), &e); err != nil {
			return damaged("the entries of " + key.String() + ": " + err.Error())
		}
		all[key] = e
		return nil
	}, args...)
	return all, err
}
