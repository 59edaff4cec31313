package ledger

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
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
		for _, t := range layout {
			if err := l.checkRows(ctx, t.name, ""); err != nil {
				return append(faults, err.Error()), nil
			}
		}
	}
	for _, c := range []struct{ query, says string }{
		{`SELECT r.address, r.network, r.site || '/' || r.machine FROM reservations r LEFT JOIN machines m ON m.site = r.site AND m.name = r.machine
			WHERE r.standing = 'in use' AND m.name IS NULL`, "address %s of network %s is in use by %s, which is not in the ledger"},
		{`SELECT s.name, s.site || '/' || s.machine, '' FROM secrets s LEFT JOIN machines m ON m.site = s.site AND m.name = s.machine
			WHERE s.machine <> '' AND m.name IS NULL`, "the sealed value %s belongs to %s, which is not in the ledger%s"},
		{`SELECT s.step, s.site || '/' || s.machine, '' FROM steps s LEFT JOIN machines m ON m.site = s.site AND m.name = s.machine
			WHERE m.name IS NULL`, "step %s belongs to %s, which is not in the ledger%s"},
		{`SELECT s.step, s.site || '/' || s.machine, s.run FROM steps s JOIN machines m ON m.site = s.site AND m.name = s.machine
			WHERE s.state = 'begun' AND (s.generation > m.generation OR s.generation < m.generation AND m.state = 'made')`,
			"step %s of %s, started by run %s, can never finish: its clone no longer exists"},
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
			if first, twice := macs[a.MAC]; twice && !a.Parent.IsVLAN() {
				faults = append(faults, fmt.Sprintf("MAC address %s belongs to both %s and %s", a.MAC, first, m.Key))
			}
			macs[a.MAC] = m.Key.String()
		}
	}
	return faults, nil
}

// ExportFormat is the version of the lines that Export writes.
const ExportFormat = "mintbatch/ledger/2"

// exportEnd is the last line: without it the export was cut short.
type exportEnd struct {
	End *struct {
		Rows   int    `json:"rows"`
		SHA256 string `json:"sha256"` // of all lines before it
	} `json:"end"`
}

// exported lists the tables that an export has: the id stands in its first line,
// and who works on a machine is nothing to keep.
func exported() []table {
	return slices.DeleteFunc(slices.Clone(layout), func(t table) bool { return t.name == "about" || t.name == "claims" })
}

// Export writes everything as JSON Lines: first one that says what this is, then
// one for each row, {"table": ..., "row": {...}}, and last one with their count and
// digest. What is sealed stays sealed.
func (l *Ledger) Export(ctx context.Context, to io.Writer) error {
	w := bufio.NewWriter(to)
	digest := sha256.New()
	e := json.NewEncoder(io.MultiWriter(w, digest))
	if err := e.Encode(map[string]string{"schema": ExportFormat, "ledger": l.ID.String()}); err != nil {
		return err
	}
	var end exportEnd
	end.End = &struct {
		Rows   int    `json:"rows"`
		SHA256 string `json:"sha256"`
	}{}
	for _, t := range exported() {
		if err := l.checkRows(ctx, t.name, ""); err != nil {
			return err
		}
		err := l.read(ctx, `SELECT `+t.columnList()+` FROM `+t.name+` ORDER BY 1, 2`, func(rows *sql.Rows) error {
			values, into := make([]any, len(t.columns)), make([]any, len(t.columns))
			for i := range values {
				into[i] = &values[i]
			}
			if err := rows.Scan(into...); err != nil {
				return err
			}
			row := map[string]any{}
			for i, name := range t.columns {
				if b, ok := values[i].([]byte); ok {
					values[i] = string(b)
				}
				row[name] = values[i]
			}
			end.End.Rows++
			return e.Encode(map[string]any{"table": t.name, "row": row})
		})
		if err != nil {
			return err
		}
	}
	end.End.SHA256 = hex.EncodeToString(digest.Sum(nil))
	if err := json.NewEncoder(w).Encode(end); err != nil {
		return err
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
	if !lines.Scan() || json.Unmarshal(lines.Bytes(), &head) != nil || head.Schema != ExportFormat {
		return 0, fmt.Errorf("%w: its first line is not {\"schema\": %q, ...}", ErrExport, ExportFormat)
	}
	id, err := uuid.Parse(head.Ledger)
	if err != nil {
		return 0, fmt.Errorf("%w: %q is not a ledger's id", ErrExport, head.Ledger)
	}
	digest := sha256.New()
	add := func() { _, _ = digest.Write(append(lines.Bytes(), '\n')) }
	add()
	err = l.write(ctx, func(tx *transaction) error {
		rows = 0
		if err := adopt(tx, id); err != nil {
			return err
		}
		for n := 2; lines.Scan(); n++ {
			var end exportEnd
			if json.Unmarshal(lines.Bytes(), &end) == nil && end.End != nil {
				if end.End.Rows != rows || end.End.SHA256 != hex.EncodeToString(digest.Sum(nil)) || lines.Scan() {
					return fmt.Errorf("%w: its content was changed after the export (%d rows exported, %d found); nothing was imported", ErrExport, end.End.Rows, rows)
				}
				return lines.Err()
			}
			if err := importLine(tx, lines.Bytes()); err != nil {
				return fmt.Errorf("%w: line %d: %w; nothing was imported", ErrExport, n, err)
			}
			add()
			rows++
		}
		if err := lines.Err(); err != nil {
			return err
		}
		return fmt.Errorf("%w: its last line is not {\"end\": ...}: the export is truncated; nothing was imported", ErrExport)
	})
	if err == nil {
		l.ID = id
	}
	return rows, err
}

// importLine reads a row of one of our tables: the names in a line are somebody
// else's words.
func importLine(tx *transaction, line []byte) error {
	var one struct {
		Table string
		Row   map[string]any
	}
	d := json.NewDecoder(bytes.NewReader(line))
	d.UseNumber()
	if err := d.Decode(&one); err != nil {
		return err
	}
	i := slices.IndexFunc(exported(), func(t table) bool { return t.name == one.Table })
	if i < 0 {
		return fmt.Errorf("no table %q", one.Table)
	}
	t := exported()[i]
	values := make([]any, len(t.columns))
	for i, name := range t.columns {
		value, ok := one.Row[name]
		if !ok {
			return fmt.Errorf("the row of table %q has no %q", t.name, name)
		}
		if n, ok := value.(json.Number); ok {
			value = n.String()
		}
		values[i] = value
	}
	if len(one.Row) != len(values) {
		return fmt.Errorf("the row of table %q has unknown columns", t.name)
	}
	_, err := tx.Exec(`INSERT INTO `+t.name+` (`+t.columnList()+`) VALUES (?`+strings.Repeat(", ?", len(values)-1)+`)`, values...)
	return err
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
			{`DELETE FROM orders WHERE ? <> '' AND run NOT IN (SELECT id FROM runs)`, "all"},
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
