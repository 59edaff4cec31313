package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
)

// Machine is what the ledger holds of a machine.
type Machine struct {
	proof.Known
	Host    string // where the site put it
	Store   string
	HostKey string // the public one
	Run     string // the last one that changed it
	Changed time.Time
	Error   string // of the step that failed last, while it has not been done
}

// Machines returns all machines, by site and name.
func (l *Ledger) Machines(ctx context.Context) ([]Machine, error) {
	if all := l.ready.Swap(nil); all != nil {
		return *all, nil
	}
	var all []Machine
	err := l.read(ctx, `SELECT count(*) FROM machines`, func(row *sql.Rows) error {
		n := 0
		err := row.Scan(&n)
		all = make([]Machine, 0, n)
		return err
	})
	if err != nil {
		return nil, err
	}
	err = l.read(ctx, `SELECT m.site, m.name, m.generation, m.state, m.spec, m.host, m.store, m.host_key, m.run, m.changed,
			EXISTS (SELECT 1 FROM steps s WHERE s.site = m.site AND s.machine = m.name AND s.generation = m.generation AND s.step = 'clone' AND s.state = 'done'),
			EXISTS (SELECT 1 FROM steps s WHERE s.site = m.site AND s.machine = m.name AND s.generation = m.generation AND s.step = 'start'),
			COALESCE((SELECT s.step || ': ' || s.error FROM steps s WHERE s.site = m.site AND s.machine = m.name AND s.generation = m.generation AND s.state = 'failed' LIMIT 1), '')
		FROM machines m ORDER BY m.site, m.name`, func(row *sql.Rows) error {
		var m Machine
		var spec, changed string
		if err := row.Scan(&m.Site, &m.Name, &m.Generation, &m.State, &spec, &m.Host, &m.Store, &m.HostKey, &m.Run, &changed, &m.Cloned, &m.Started, &m.Error); err != nil {
			return err
		}
		m.Changed = parseTime(changed)
		all = append(all, m)
		if err := json.Unmarshal([]byte(spec), &all[len(all)-1].Spec); err != nil {
			return damaged(fmt.Sprintf("%s: %s", m.Key, err))
		}
		return nil
	})
	return all, err
}

// HostKey returns the public host key that a machine was given; empty if none.
func (l *Ledger) HostKey(ctx context.Context, key machine.Key) (string, error) {
	hostKey := ""
	err := l.read(ctx, `SELECT host_key FROM machines WHERE site = ? AND name = ?`, func(row *sql.Rows) error {
		return row.Scan(&hostKey)
	}, key.Site, key.Name)
	return hostKey, err
}

// read runs a query and hands each row to take.
func (l *Ledger) read(ctx context.Context, query string, take func(*sql.Rows) error, args ...any) error {
	err := func() error {
		rows, err := l.db.QueryContext(ctx, l.store.query(query), args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			if err := take(rows); err != nil {
				return err
			}
		}
		return rows.Err()
	}()
	if err != nil {
		return l.explained(err)
	}
	return nil
}

// Begin writes that a machine of this generation is being made to a spec, and
// what is reserved for it. It is the first thing that happens to a machine.
func (l *Ledger) Begin(ctx context.Context, run string, m machine.Machine, generation int, reserved []Reservation) error {
	return l.write(ctx, func(tx *transaction) error {
		if err := reserve(tx, m.Key, reserved); err != nil {
			return err
		}
		_, err := tx.Exec(`INSERT INTO machines (site, name, generation, state, spec, run, changed) VALUES (?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (site, name) DO UPDATE SET generation = excluded.generation, state = excluded.state,
				spec = excluded.spec, run = excluded.run, changed = excluded.changed`,
			m.Site, m.Name, generation, proof.Making, encode(m.Spec), run, now())
		if err != nil {
			return err
		}
		return note(tx, Event{Run: run, Key: m.Key, What: "begun", Detail: fmt.Sprintf("generation %d", generation)})
	})
}

// Finish writes that a machine is as its spec says.
func (l *Ledger) Finish(ctx context.Context, run string, m machine.Machine) error {
	return l.write(ctx, func(tx *transaction) error {
		_, err := tx.Exec(`UPDATE machines SET state = ?, spec = ?, run = ?, changed = ? WHERE site = ? AND name = ?`,
			proof.Made, encode(m.Spec), run, now(), m.Site, m.Name)
		if err != nil {
			return err
		}
		if err := workedOn(tx, run, m.Key); err != nil {
			return err
		}
		return note(tx, Event{Run: run, Key: m.Key, What: "made"})
	})
}

// Forget takes a machine out of the ledger, with its sealed values and its
// journal. Its addresses rest for as long as is said for their networks. The
// history names the disks that stay, if they do.
func (l *Ledger) Forget(ctx context.Context, run string, key machine.Key, cooling map[string]time.Time, disksStay bool) error {
	return l.write(ctx, func(tx *transaction) error {
		if err := cool(tx, key, cooling); err != nil {
			return err
		}
		if err := workedOn(tx, run, key); err != nil {
			return err
		}
		disks, err := keptOf(tx, key, disksStay)
		if err != nil {
			return err
		}
		if err := note(tx, Event{Run: run, Key: key, What: "retired", Detail: disks}); err != nil {
			return err
		}
		for _, from := range []string{
			`DELETE FROM secrets WHERE site = ? AND machine = ?`,
			`DELETE FROM steps WHERE site = ? AND machine = ?`, `DELETE FROM machines WHERE site = ? AND name = ?`,
		} {
			if _, err := tx.Exec(from, key.Site, key.Name); err != nil {
				return err
			}
		}
		return nil
	})
}

// Placed writes where a site put a machine.
func (l *Ledger) Placed(ctx context.Context, key machine.Key, host, store string) error {
	return l.write(ctx, func(tx *transaction) error {
		_, err := tx.Exec(`UPDATE machines SET host = ?, store = ? WHERE site = ? AND name = ?`, host, store, key.Site, key.Name)
		return err
	})
}

// ErrNoSecret means that the ledger has no such sealed value.
var ErrNoSecret = errors.New("the ledger has no such sealed value")

// Seal keeps a machine's sealed values, by name, and its public host key, in
// place of those of an earlier generation.
func (l *Ledger) Seal(ctx context.Context, key machine.Key, hostKey string, sealed map[string]string) error {
	return l.write(ctx, func(tx *transaction) error {
		if _, err := tx.Exec(`DELETE FROM secrets WHERE site = ? AND machine = ?`, key.Site, key.Name); err != nil {
			return err
		}
		for name, value := range sealed {
			if _, err := tx.Exec(`INSERT INTO secrets (site, machine, name, sealed) VALUES (?, ?, ?, ?)`, key.Site, key.Name, name, value); err != nil {
				return err
			}
		}
		_, err := tx.Exec(`UPDATE machines SET host_key = ? WHERE site = ? AND name = ?`, hostKey, key.Site, key.Name)
		return err
	})
}

// SetSecret keeps a sealed value that belongs to no machine.
func (l *Ledger) SetSecret(ctx context.Context, name, sealed string) error {
	return l.write(ctx, func(tx *transaction) error {
		_, err := tx.Exec(`INSERT INTO secrets (site, machine, name, sealed) VALUES ('', '', ?, ?)
			ON CONFLICT (site, machine, name) DO UPDATE SET sealed = excluded.sealed`, name, sealed)
		return err
	})
}

// Secret returns a machine's sealed value; with an empty key one that belongs
// to no machine.
func (l *Ledger) Secret(ctx context.Context, key machine.Key, name string) (string, error) {
	sealed := ""
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
	return l.write(ctx, func(tx *transaction) error {
		for _, s := range all {
			if _, err := tx.Exec(`UPDATE secrets SET sealed = ? WHERE site = ? AND machine = ? AND name = ?`, s.Value, s.Site, s.Name, s.Label); err != nil {
				return err
			}
		}
		return nil
	})
}

func encode(v any) string {
	b, err := json.Marshal(v)
	if err != nil { // only values of our own types, which marshal
		panic(err)
	}
	return string(b)
}

func now() string { return time.Now().UTC().Format(time.RFC3339Nano) }

func parseTime(s string) time.Time {
	t, _ := time.Parse(time.RFC3339Nano, s)
	return t
}
