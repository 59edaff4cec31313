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
		for _, a := range m.Adapters {
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
	lines := io.MultiWriter(w, digest)
	if err := json.NewEncoder(lines).Encode(map[string]string{"schema": ExportFormat, "ledger": l.ID.String()}); err != nil {
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
		values, into := make([]any, len(t.columns)), make([]any, len(t.columns))
		for i := range values {
			into[i] = &values[i]
		}
		line := newExportLine(t)
		err := l.read(ctx, `SELECT `+t.columnList()+` FROM `+t.name+` ORDER BY 1, 2`, func(rows *sql.Rows) error {
			if err := rows.Scan(into...); err != nil {
				return err
			}
			text, err := line.of(values)
			if err != nil {
				return err
			}
			end.End.Rows++
			_, err = lines.Write(text)
			return err
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

// exportLine writes the rows of a table as lines, the columns in the order of their names.
type exportLine struct {
	table   table
	columns []int // in that order
	text    bytes.Buffer
	encoder *json.Encoder
}

func newExportLine(t table) *exportLine {
	l := &exportLine{table: t, columns: make([]int, len(t.columns))}
	for i := range l.columns {
		l.columns[i] = i
	}
	slices.SortFunc(l.columns, func(a, b int) int { return strings.Compare(t.columns[a], t.columns[b]) })
	l.encoder = json.NewEncoder(&l.text)
	return l
}

// of is the line of a row. It is good until the next.
func (l *exportLine) of(values []any) ([]byte, error) {
	l.text.Reset()
	between := `{"row":{"`
	for _, i := range l.columns {
		l.text.WriteString(between)
		l.text.WriteString(l.table.columns[i])
		l.text.WriteString(`":`)
		if b, ok := values[i].([]byte); ok {
			values[i] = string(b)
		}
		if err := l.encoder.Encode(values[i]); err != nil {
			return nil, err
		}
		l.text.Truncate(l.text.Len() - 1) // the encoder ends the line
		between = `,"`
	}
	l.text.WriteString(`},"table":"` + l.table.name + "\"}\n")
	return l.text.Bytes(), nil
}

// ErrExport means that what is to be imported is not what Export writes.
var ErrExport = errors.New("not an exported ledger")

// Prune forgets runs that ended, events and addresses whose time was over before
// a moment. Machines and what they have stay.
func (l *Ledger) Prune(ctx context.Context, before time.Time) (rows int64, err error) {
	err = l.write(ctx, func(tx transaction) error {
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
			n, err := tx.Count(q.query, q.at)
			if err != nil {
				return err
			}
			rows += int64(n)
		}
		return nil
	})
	return rows, err
}
