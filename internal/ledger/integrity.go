package ledger

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"
	"modernc.org/sqlite"
)

// In a file each row has a checksum: the database looks at its pages for what
// cannot be, and not at whether a value is the one that was written. Triggers
// keep the checksums, so that no write can forget one; an import brings them along.

// table is a table of the ledger.
type table struct {
	name    string
	key     []string
	columns []string // all but the checksum
}

func (t table) columnList() string { return strings.Join(t.columns, ", ") }

// layout lists the tables in the order in which they are exported.
var layout = []table{
	{"about", []string{"name"}, []string{"name", "value"}},
	{"runs", []string{"id"}, []string{"id", "command", "user_name", "host_name", "sheet", "setup", "started", "ended", "outcome", "beat"}},
	{"orders", []string{"run", "site", "machine"}, []string{"run", "site", "machine"}},
	{"machines", []string{"site", "name"}, []string{"site", "name", "generation", "state", "spec", "host", "store", "host_key", "run", "changed", "earlier"}},
	{"reservations", []string{"network", "address"}, []string{"network", "address", "site", "machine", "adapter", "pool", "since", "standing", "note", "until", "run"}},
	{"secrets", []string{"site", "machine", "name"}, []string{"site", "machine", "name", "sealed"}},
	{"steps", []string{"site", "machine", "step"}, []string{"site", "machine", "generation", "step", "input", "state", "error", "run", "began", "ended"}},
	{"timings", []string{"site", "machine", "what"}, []string{"site", "machine", "what", "at", "steps"}},
	{"kept", []string{"site", "machine"}, []string{"site", "machine", "generation", "disks", "run", "since"}},
	{"spent", []string{"site", "machine"}, []string{"site", "machine", "generation"}},
	{"history", []string{"id"}, []string{"id", "at", "run", "user_name", "host_name", "site", "machine", "what", "detail"}},
	{"calls", []string{"site", "machine"}, []string{"site", "machine", "generation", "token", "report"}},
	{"origins", []string{"site", "machine"}, []string{"site", "machine", "origin"}},
	{"inspections", []string{"site", "template"}, []string{"site", "template", "summary"}},
	{"versions", []string{"template", "number", "site"}, []string{"template", "number", "site", "state", "about", "run"}},
	{"entries", []string{"site", "machine"}, []string{"site", "machine", "entered"}},
	{"outbox", []string{"id"}, []string{"id", "notice", "event", "site", "machine", "run", "at", "data", "tries", "tried", "error"}},
	{"taken", []string{"site", "machine", "name"}, []string{"site", "machine", "name", "value"}},
	{"requests", []string{"id"}, []string{"id", "changed", "about"}},
	{"sheets", []string{"request"}, []string{"request", "content"}},
	{"letters", []string{"id"}, []string{"id", "request", "at", "letter"}},
	{"claims", []string{"site", "machine"}, []string{"site", "machine", "run", "uses"}},
}

// ofMachine are tables whose rows go with the machine that they are of, and bear its name.
var ofMachine = []string{"secrets", "steps", "timings", "calls", "entries", "taken"}

// numbers are the columns that are whole numbers; all others are texts.
var numbers = []string{"generation", "adapter", "beat", "number", "tries", "requests.changed"}

func (t table) isNumber(column string) bool {
	return slices.Contains(numbers, column) || slices.Contains(numbers, t.name+"."+column)
}

func tableOf(name string) table {
	for _, t := range layout {
		if t.name == name {
			return t
		}
	}
	panic("no table " + name)
}

func init() {
	if err := sqlite.RegisterDeterministicScalarFunction("mintbatch_sum", -1, func(_ *sqlite.FunctionContext, values []driver.Value) (driver.Value, error) {
		return checksum(values), nil
	}); err != nil {
		panic(err)
	}
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// rooms are what checksums are computed in.
var rooms = sync.Pool{New: func() any { return new([]byte) }}

// checksum distinguishes values that differ in a byte, in a type, or in where one
// ends and the next begins.
func checksum[V any](values []V) string {
	room := rooms.Get().(*[]byte)
	all := (*room)[:0]
	add := func(kind, text string) {
		all = append(append(all, kind...), ' ')
		all = append(strconv.AppendInt(all, int64(len(text)), 10), 0)
		all = append(all, text...)
	}
	for _, v := range values {
		switch v := any(v).(type) {
		case string:
			add("string", v)
		case int64:
			add("int64", strconv.FormatInt(v, 10))
		default: // no value of ours
			add(fmt.Sprintf("%T", v), fmt.Sprint(v))
		}
	}
	sum := crc32.Checksum(all, castagnoli)
	*room = all
	rooms.Put(room)
	return hex.EncodeToString([]byte{byte(sum >> 24), byte(sum >> 16), byte(sum >> 8), byte(sum)})
}

// checksum is the expression for a row's checksum; of is `NEW.` in a trigger.
func (t table) checksum(of string) string {
	return fmt.Sprintf("mintbatch_sum('%s', %s%s)", t.name, of, strings.Join(t.columns, ", "+of))
}

// addChecksums makes the triggers, and gives rows of an older form their checksums.
// It ends with a word of the whole schema, so that what was cut short is done
// again.
func (l *Ledger) addChecksums(ctx context.Context) error {
	tx, err := l.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	for _, t := range layout {
		own := fmt.Sprintf("BEGIN UPDATE %s SET sum = %s WHERE rowid = NEW.rowid; END", t.name, t.checksum("NEW."))
		for _, statement := range []string{
			fmt.Sprintf("CREATE TRIGGER IF NOT EXISTS %s_insert AFTER INSERT ON %s WHEN NEW.sum = '' %s", t.name, t.name, own),
			fmt.Sprintf("CREATE TRIGGER IF NOT EXISTS %s_update AFTER UPDATE OF %s ON %s %s", t.name, t.columnList(), t.name, own),
			fmt.Sprintf("UPDATE %s SET sum = %s WHERE sum = ''", t.name, t.checksum("")),
		} {
			if _, err := tx.ExecContext(ctx, statement); err != nil {
				return err
			}
		}
	}
	schema, err := schemaOf(ctx, tx)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO about (name, value) VALUES ('schema', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`, schema); err != nil {
		return err
	}
	return tx.Commit()
}

// querier is a database or a transaction.
type querier interface {
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// schemaOf is a checksum of all that the database says of its tables.
func schemaOf(ctx context.Context, q querier) (string, error) {
	var text string
	err := q.QueryRowContext(ctx, `SELECT COALESCE(group_concat(one, char(10)), '') FROM (SELECT type || ' ' || name || ' ' || tbl_name || ' ' || COALESCE(sql, '') AS one FROM sqlite_master ORDER BY 1)`).Scan(&text)
	return checksum([]any{text}), err
}

// checkRows refuses rows that are not as they were written, by name. Where may narrow
// down which rows are looked at.
func (l *Ledger) checkRows(ctx context.Context, name, where string, args ...any) error {
	if l.store.check == "" || l.verified.Load() {
		return nil
	}
	t := tableOf(name)
	if where != "" {
		where = " AND " + where
	}
	query := fmt.Sprintf("SELECT %s FROM %s WHERE sum IS NOT %s%s LIMIT 1", strings.Join(t.key, " || ' ' || "), t.name, t.checksum(""), where)
	return l.read(ctx, query, func(row *sql.Rows) error {
		var which string
		if err := row.Scan(&which); err != nil {
			return err
		}
		return damaged(fmt.Sprintf("row %q of table %s was changed outside of mintbatch", which, t.name))
	}, args...)
}

// checkSchema refuses tables and triggers that are not as they were made.
func (l *Ledger) checkSchema(ctx context.Context) error {
	is, err := schemaOf(ctx, l.db)
	if err != nil {
		return err
	}
	var was string
	if err := l.db.QueryRowContext(ctx, `SELECT value FROM about WHERE name = 'schema'`).Scan(&was); err != nil {
		return err
	}
	if is != was {
		return damaged("its tables were changed outside of mintbatch")
	}
	return nil
}

// checkAll refuses a damaged database before anything is built on it, or written to
// it. Where it had to read the machines for that, it returns them.
func (l *Ledger) checkAll(ctx context.Context) (*[]Machine, error) {
	for _, t := range layout {
		if err := l.read(ctx, "SELECT "+t.columnList()+" FROM "+t.name+" LIMIT 0", func(*sql.Rows) error { return nil }); err != nil {
			return nil, err
		}
	}
	if l.store.check == "" {
		return nil, nil
	}
	if err := l.checkSchema(ctx); err != nil {
		return nil, l.explain(err)
	}
	checks, ctxChecks := errgroup.WithContext(ctx) // there are processors enough, and much to read
	checks.Go(func() error { return l.checkDatabase(ctxChecks) })
	checks.Go(func() error {
		for _, t := range layout {
			if err := l.checkRows(ctxChecks, t.name, ""); err != nil {
				return err
			}
		}
		return nil
	})
	all, err := verified(checks.Wait, func() ([]Machine, error) { return l.unverified(ctx, everything) })
	if err != nil {
		return nil, err
	}
	l.verified.Store(true)
	_, err = l.Kept(ctx)
	return &all, err
}

// checkDatabase lets the database look for damage to itself.
func (l *Ledger) checkDatabase(ctx context.Context) error {
	return l.read(ctx, l.store.check, func(row *sql.Rows) error {
		var fault string
		if err := row.Scan(&fault, new(string), new(string)); err != nil {
			return err
		}
		return damaged(fault)
	})
}

func damaged(how any) error {
	return fmt.Errorf("it is damaged (%v); restore it from a copy before going on", how)
}
