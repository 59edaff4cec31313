package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

// Kept is a machine whose disks stay, or stayed, at the site when it is retired.
// They bear its identity, so that no later machine may have the same.
type Kept struct {
	machine.Key
	Generation int
	Disks      []string // their names at the site
	Run        string
	Since      time.Time
}

// KeepDisks writes that a machine's disks are to stay. It comes before the
// machine goes, so that they are never there without a word of them here.
func (l *Ledger) KeepDisks(ctx context.Context, k Kept) error {
	return l.write(ctx, func(tx transaction) error {
		return tx.Exec(`INSERT INTO kept (site, machine, generation, disks, run, since) VALUES (?, ?, ?, ?, ?, ?)
			ON CONFLICT (site, machine, generation) DO UPDATE SET disks = excluded.disks, run = excluded.run, since = excluded.since`,
			k.Site, k.Name, k.Generation, encode(k.Disks), k.Run, now())
	})
}

// WasKept reports whether the disks of a machine were to stay.
func (l *Ledger) WasKept(ctx context.Context, key machine.Key, generation int) (bool, error) {
	n := 0
	err := l.read(ctx, `SELECT COUNT(*) FROM kept WHERE site = ? AND machine = ? AND generation = ?`, func(row *sql.Rows) error { return row.Scan(&n) }, key.Site, key.Name, generation)
	return n > 0, err
}

// keptOf reports which disks of a machine stay. If they do not, what was written of
// them, by a run that did not live to do it, is taken back.
func keptOf(tx transaction, key machine.Key, disks contract.Disks) (string, error) {
	const of = ` WHERE site = ? AND machine = ? AND generation = (SELECT generation FROM machines WHERE site = ? AND name = ?)`
	if disks != contract.KeepDisks {
		err := tx.Exec(`DELETE FROM kept`+of, key.Site, key.Name, key.Site, key.Name)
		return "", err
	}
	text := "[]"
	err := tx.QueryRow(`SELECT disks FROM kept`+of, key.Site, key.Name, key.Site, key.Name).Scan(&text)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return "", err
	}
	var names []string
	if err := json.Unmarshal([]byte(text), &names); err != nil {
		return "", damaged(fmt.Sprintf("%s: %s", key, err))
	}
	if len(names) == 0 {
		return "", nil
	}
	return "disks kept: " + strings.Join(names, " "), nil
}

// spend writes that no machine of a name may have a generation, or an earlier one, any more.
func spend(tx transaction, key machine.Key, generation int) error {
	if generation == 0 {
		return nil
	}
	return tx.Exec(`INSERT INTO spent (site, machine, generation) VALUES (?, ?, ?)
		ON CONFLICT (site, machine) DO UPDATE SET generation = CASE WHEN spent.generation > excluded.generation THEN spent.generation ELSE excluded.generation END`, key.Site, key.Name, generation)
}

// LastGenerations reports the last generation of each machine that was retired. What comes
// later has an identity of its own.
func (l *Ledger) LastGenerations(ctx context.Context) (map[machine.Key]int, error) {
	all := map[machine.Key]int{}
	if err := l.checkRows(ctx, "spent", ""); err != nil {
		return nil, err
	}
	err := l.read(ctx, `SELECT site, machine, generation FROM spent`, func(row *sql.Rows) error {
		var key machine.Key
		var generation int
		err := row.Scan(&key.Site, &key.Name, &generation)
		all[key] = generation
		return err
	})
	return all, err
}

// Kept lists the machines whose disks were kept, by site, name and generation.
func (l *Ledger) Kept(ctx context.Context) ([]Kept, error) {
	var all []Kept
	if err := l.checkRows(ctx, "kept", ""); err != nil {
		return nil, err
	}
	err := l.read(ctx, `SELECT site, machine, generation, disks, run, since FROM kept ORDER BY site, machine, generation`, func(row *sql.Rows) error {
		var k Kept
		var disks, since string
		if err := row.Scan(&k.Site, &k.Name, &k.Generation, &disks, &k.Run, &since); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(disks), &k.Disks); err != nil {
			return damaged(fmt.Sprintf("%s: %s", k.Key, err))
		}
		k.Since = parseTime(since)
		all = append(all, k)
		return nil
	})
	return all, err
}
