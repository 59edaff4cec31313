package ledger

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/google/uuid"
)

// Check looks for damage: in the database itself, and in what its tables say of
// each other. It returns a line for each fault.
func (l *Ledger) Check(ctx context.Context) ([]string, error) {
	var faults []string
	add := func(format string) func(*sql.Rows) error {
		return func(row *sql.Rows) error {
			var words [3]string
			if err := row.Scan(&words[0], &words[1], &words[2]); err != nil {
				return err
			}
			faults = append(faults, fmt.Sprintf(format, words[0], words[1], words[2]))
			return nil
		}
	}
	if l.store.check != "" {
		if err := l.read(ctx, l.store.check, add("the database is damaged: %s%s%s")); err != nil {
			return nil, err
		}
	}
	for _, c := range []struct{ query, says string }{
		{`SELECT r.address, r.network, r.site || '/' || r.machine FROM reservations r LEFT JOIN machines m ON m.site = r.site AND m.name = r.machine
			WHERE r.standing = 'in use' AND m.name IS NULL`, "address %s of network %s is in use by %s, which the ledger does not have"},
		{`SELECT s.name, s.site || '/' || s.machine, '' FROM secrets s LEFT JOIN machines m ON m.site = s.site AND m.name = s.machine
			WHERE s.machine <> '' AND m.name IS NULL`, "the sealed value %s is of %s, which the ledger does not have%s"},
		{`SELECT s.step, s.site || '/' || s.machine, '' FROM steps s LEFT JOIN machines m ON m.site = s.site AND m.name = s.machine
			WHERE m.name IS NULL`, "step %s is of %s, which the ledger does not have%s"},
	} {
		if err := l.read(ctx, c.query, add(c.says)); err != nil {
			return nil, err
		}
	}
	macs := map[string]string{}
	all, err := l.Machines(ctx)
	if err != nil {
		return append(faults, err.Error()), nil
	}
	for _, m := range all {
		for _, a := range m.Spec.Adapters {
			if first, twice := macs[a.MAC]; twice && !a.Via.Tagged() {
				faults = append(faults, fmt.Sprintf("MAC address %s is of %s and of %s", a.MAC, first, m.Key))
			}
			macs[a.MAC] = m.Key.String()
		}
	}
	return faults, nil
}

// tables are those that are exported, in the order in which they are imported.
var tables = []string{"runs", "machines", "reservations", "secrets", "steps", "kept", "history"}

// ExportForm is the version of the lines that Export writes.
const ExportForm = "mintbatch/ledger/1"

// Export writes everything as JSON Lines: first one that says what this is, then
// one for each row, {"table": ..., "row": {...}}. What is sealed stays sealed.
func (l *Ledger) Export(ctx context.Context, to io.Writer) error {
	w := bufio.NewWriter(to)
	e := json.NewEncoder(w)
	if err := e.Encode(map[string]string{"schema": ExportForm, "ledger": l.ID.String()}); err != nil {
		return err
	}
	for _, table := range tables {
		err := l.read(ctx, `SELECT * FROM `+table+` ORDER BY 1, 2`, func(rows *sql.Rows) error {
			names, err := rows.Columns()
			if err != nil {
				return err
			}
			values, into := make([]any, len(names)), make([]any, len(names))
			for i := range values {
				into[i] = &values[i]
			}
			if err := rows.Scan(into...); err != nil {
				return err
			}
			row := map[string]any{}
			for i, name := range names {
				if b, ok := values[i].([]byte); ok {
					values[i] = string(b)
				}
				row[name] = values[i]
			}
			return e.Encode(map[string]any{"table": table, "row": row})
		})
		if err != nil {
			return err
		}
	}
	return w.Flush()
}

// ErrExport means that what is to be imported is not what Export writes.
var ErrExport = errors.New("not an exported ledger")

// Import reads what Export has written into an empty ledger, which takes its id.
// All of it is read or nothing.
func (l *Ledger) Import(ctx context.Context, from io.Reader) (rows int, err error) {
	lines := bufio.NewScanner(from)
	lines.Buffer(nil, 64<<20)
	var head struct{ Schema, Ledger string }
	if !lines.Scan() || json.Unmarshal(lines.Bytes(), &head) != nil || head.Schema != ExportForm {
		return 0, fmt.Errorf("%w: its first line is not {\"schema\": %q, ...}", ErrExport, ExportForm)
	}
	id, err := uuid.Parse(head.Ledger)
	if err != nil {
		return 0, fmt.Errorf("%w: %q is not a ledger's id", ErrExport, head.Ledger)
	}
	err = l.write(ctx, func(tx *transaction) error {
		rows = 0
		if err := adopt(tx, id); err != nil {
			return err
		}
		columns := map[string]map[string]bool{}
		for n := 2; lines.Scan(); n++ {
			if err := importLine(tx, columns, lines.Bytes()); err != nil {
				return fmt.Errorf("%w: line %d: %w; nothing was read", ErrExport, n, err)
			}
			rows++
		}
		return lines.Err()
	})
	if err == nil {
		l.ID = id
	}
	return rows, err
}

func importLine(tx *transaction, columns map[string]map[string]bool, line []byte) error {
	var one struct {
		Table string
		Row   map[string]any
	}
	d := json.NewDecoder(strings.NewReader(string(line)))
	d.UseNumber()
	if err := d.Decode(&one); err != nil {
		return err
	}
	known, err := columnsOf(tx, columns, one.Table)
	if err != nil {
		return err
	}
	var names, marks []string
	var values []any
	for name, value := range one.Row {
		if !known[name] {
			return fmt.Errorf("table %q has no column %q", one.Table, name)
		}
		if n, ok := value.(json.Number); ok {
			value = n.String()
		}
		names, marks, values = append(names, name), append(marks, "?"), append(values, value)
	}
	_, err = tx.Exec(`INSERT INTO `+one.Table+` (`+strings.Join(names, ", ")+`) VALUES (`+strings.Join(marks, ", ")+`)`, values...)
	return err
}

// columnsOf lists the columns of a table, which must be one of ours: the names
// in a line are somebody else's words.
func columnsOf(tx *transaction, cache map[string]map[string]bool, table string) (map[string]bool, error) {
	if known := cache[table]; known != nil {
		return known, nil
	}
	for _, t := range tables {
		if t != table {
			continue
		}
		rows, err := tx.Query(`SELECT * FROM ` + t + ` LIMIT 0`)
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		names, err := rows.Columns()
		if err != nil {
			return nil, err
		}
		cache[table] = map[string]bool{}
		for _, name := range names {
			cache[table][name] = true
		}
		return cache[table], rows.Err()
	}
	return nil, fmt.Errorf("no table %q", table)
}

// Prune forgets runs that ended, events and addresses whose time was over before
// a moment. Machines and what they have stay.
func (l *Ledger) Prune(ctx context.Context, before time.Time) (rows int64, err error) {
	err = l.write(ctx, func(tx *transaction) error {
		rows = 0
		for _, q := range []struct {
			query string
			at    string
		}{
			{`DELETE FROM history WHERE at < ?`, before.UTC().Format(time.RFC3339Nano)},
			{`DELETE FROM runs WHERE outcome <> '' AND started < ? AND id NOT IN (SELECT run FROM machines) AND id NOT IN (SELECT run FROM history)`, before.UTC().Format(time.RFC3339Nano)},
			{`DELETE FROM reservations WHERE until <> '' AND until < ?`, seconds(before)},
		} {
			done, err := tx.Exec(q.query, q.at)
			if err != nil {
				return err
			}
			n, err := done.RowsAffected()
			if err != nil {
				return err
			}
			rows += n
		}
		return nil
	})
	return rows, err
}
