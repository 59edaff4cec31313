package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"mintbatch/internal/core/machine"
)

// ErrNoSecret means that the ledger has no such sealed value.
var ErrNoSecret = errors.New("the ledger has no such sealed value")

// Seal keeps a machine's sealed values, by name, and its public host key, in
// place of those of an earlier generation.
func (l *Ledger) Seal(ctx context.Context, key machine.Key, hostKey string, sealed map[string]string) error {
	return l.write(ctx, func(tx transaction) error {
		if err := tx.Exec(`DELETE FROM secrets WHERE site = ? AND machine = ?`, key.Site, key.Name); err != nil {
			return err
		}
		for name, value := range sealed {
			if err := tx.Exec(`INSERT INTO secrets (site, machine, name, sealed) VALUES (?, ?, ?, ?)`, key.Site, key.Name, name, value); err != nil {
				return err
			}
		}
		return tx.Exec(`UPDATE machines SET host_key = ? WHERE site = ? AND name = ?`, hostKey, key.Site, key.Name)
	})
}

// SetSecret keeps a sealed value that belongs to no machine.
func (l *Ledger) SetSecret(ctx context.Context, name, sealed string) error {
	return l.write(ctx, func(tx transaction) error {
		return tx.Exec(`INSERT INTO secrets (site, machine, name, sealed) VALUES ('', '', ?, ?)
			ON CONFLICT (site, machine, name) DO UPDATE SET sealed = excluded.sealed`, name, sealed)
	})
}

// Secret returns a machine's sealed value; with an empty key one that belongs
// to no machine.
func (l *Ledger) Secret(ctx context.Context, key machine.Key, name string) (string, error) {
	sealed := ""
	if err := l.checkRows(ctx, "secrets", "site = ? AND machine = ? AND name = ?", key.Site, key.Name, name); err != nil {
		return "", err
	}
	err := l.read(ctx, `SELECT sealed FROM secrets WHERE site = ? AND machine = ? AND name = ?`, func(row *sql.Rows) error {
		return row.Scan(&sealed)
	}, key.Site, key.Name, name)
	if err == nil && sealed == "" {
		err = fmt.Errorf("%w: %s", ErrNoSecret, strings.TrimSpace(key.Name+" "+name))
	}
	return sealed, err
}

// Sealed is a sealed value; those with an empty key belong to no machine.
type Sealed struct {
	machine.Key
	Label string // by which it is asked for
	Value string
}

// Sealed lists all sealed values, those of no machine first.
func (l *Ledger) Sealed(ctx context.Context) ([]Sealed, error) {
	var all []Sealed
	if err := l.checkRows(ctx, "secrets", ""); err != nil {
		return nil, err
	}
	err := l.read(ctx, `SELECT site, machine, name, sealed FROM secrets ORDER BY site, machine, name`, func(row *sql.Rows) error {
		var s Sealed
		err := row.Scan(&s.Site, &s.Name, &s.Label, &s.Value)
		all = append(all, s)
		return err
	})
	return all, err
}

// SealedNames lists the names of the sealed values that belong to no machine.
func (l *Ledger) SealedNames(ctx context.Context) ([]string, error) {
	var all []string
	if err := l.checkRows(ctx, "secrets", "machine = ''"); err != nil {
		return nil, err
	}
	err := l.read(ctx, `SELECT name FROM secrets WHERE machine = '' ORDER BY name`, func(row *sql.Rows) error {
		var name string
		err := row.Scan(&name)
		all = append(all, name)
		return err
	})
	return all, err
}

// Reseal replaces sealed values, all of them or none.
func (l *Ledger) Reseal(ctx context.Context, all []Sealed) error {
	return l.write(ctx, func(tx transaction) error {
		for _, s := range all {
			if err := tx.Exec(`UPDATE secrets SET sealed = ? WHERE site = ? AND machine = ? AND name = ?`, s.Value, s.Site, s.Name, s.Label); err != nil {
				return err
			}
		}
		return nil
	})
}
