// Package ledger is the durable record of machines, reservations, runs and
// steps.
package ledger

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/pressly/goose/v3"
)

// ErrLedger is what every failure of the ledger itself unwraps to: it cannot
// be opened, read or written.
var ErrLedger = errors.New("the ledger cannot be used")

// Ledger is an open ledger. Its methods may be called side by side.
type Ledger struct {
	// ID is drawn when the ledger is made, and is what the identities of its
	// machines derive from.
	ID uuid.UUID

	// Hook, if set, is called before and after each write. It lets tests end a
	// run exactly there: an error is what the write returns.
	Hook func(moment string) error

	db    *sql.DB
	store store
	queue chan *write
	done  chan struct{}

	closing   sync.Once
	active    atomic.Pointer[active]
	preloaded atomic.Pointer[[]Machine] // read by Hold, for whoever asks before anything is written
	verified  atomic.Bool               // every row was looked at
	timeout   time.Duration

	reader  bool         // nothing may be written
	cleanup func() error // takes away what only this opening needed; nil for nothing

	statements statements
}

// store is what differs between the databases that a ledger can be in.
type store struct {
	name     string // for messages, without a password
	dialect  goose.Dialect
	numbered bool // placeholders are $1, $2, ...
	// exclusive lets one process at a time do something to the database as a whole.
	exclusive func(ctx context.Context, do func() error) error
	// lock keeps others away, unless one has the ledger; release ends that.
	lock    func(ctx context.Context) (bool, error)
	release func() error
	// fence, in a transaction, refuses whoever lost the hold meanwhile.
	fence func(tx session) error
	// concurrent reports whether several runs may work at once, each on its machines.
	concurrent bool
	writers    int    // how many transactions may write at once; 0 is one
	clock      string // an expression of the database's time in ms
	// After a query of a run's row: locking keeps the run from being ended, and not its
	// heartbeats, which would have to wait for ever between writes that come without a
	// pause; ending waits for those who keep it so.
	locking, ending string
	explain         func(err error) (what string, known bool)
	check           string // a query for faults of the database itself
	bulk            string // a statement that gives a transaction room for many rows; empty for none
}

//go:embed migrations/*.sql
var migrations embed.FS

// IsShared reports whether a ledger's name is that of a database that several
// operators share, and not of a file.
func IsShared(name string) bool {
	return strings.HasPrefix(name, "postgres://") || strings.HasPrefix(name, "postgresql://")
}

// Open opens the ledger in a SQLite file, making it where there is none, or in a
// PostgreSQL database, postgres://USER@HOST/DATABASE.
func Open(ctx context.Context, name string) (*Ledger, error) {
	open := openFile
	if !IsShared(name) && onlyReader(name) {
		return openReader(ctx, name)
	}
	if IsShared(name) {
		open = openShared
	}
	db, s, err := open(name)
	if err != nil {
		return nil, explain(s, err)
	}
	l := &Ledger{db: db, store: s, queue: make(chan *write), done: make(chan struct{}), timeout: usualTimeout, statements: statements{all: map[string]*sql.Stmt{}}}
	if err := l.prepare(ctx); err != nil {
		_ = db.Close()
		return nil, explain(s, err)
	}
	go l.writeAll()
	return l, nil
}

// prepare brings the database into the newest form. One that has it is not
// written to: it may be damaged, or another's to write.
func (l *Ledger) prepare(ctx context.Context) error {
	form, err := l.identify(ctx)
	if err != nil && l.inUse(ctx) { // others may have created it since, with its id before anything else
		switch form, err = l.identify(ctx); {
		case errors.Is(err, sql.ErrNoRows): // with another id its machines would be strangers
			return damaged("it has lost its id")
		case err != nil:
			return damaged(err)
		}
	}
	if err == nil && form == schemaVersion && l.hasChecksums(ctx) {
		return l.checkRows(ctx, "about", "")
	}
	if err := l.checkTables(ctx); err != nil {
		return err
	}
	if err := l.migrate(ctx); err != nil {
		return err
	}
	// Whoever comes first draws the id; everybody reads what then stands there.
	if _, err := l.db.ExecContext(ctx, l.store.query(`INSERT INTO about (name, value) VALUES ('id', ?) ON CONFLICT DO NOTHING`), uuid.NewString()); err != nil {
		return err
	}
	_, err = l.identify(ctx)
	return err
}

// inUse reports whether the database has been more than created: it then has an id.
func (l *Ledger) inUse(ctx context.Context) bool {
	var used bool
	err := l.db.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM about WHERE name <> 'schema') OR EXISTS (SELECT 1 FROM runs)`).Scan(&used)
	return err == nil && used
}

// hasChecksums reports whether the rows have their checksums, or need none.
func (l *Ledger) hasChecksums(ctx context.Context) bool {
	var has bool
	err := l.db.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM about WHERE name = 'schema')`).Scan(&has)
	return err == nil && (has || l.store.check == "")
}

// identify reads the ledger's id, and which form the database has.
func (l *Ledger) identify(ctx context.Context) (form int64, err error) {
	var text string
	if err := l.db.QueryRowContext(ctx, `SELECT value FROM about WHERE name = 'id'`).Scan(&text); err != nil {
		return 0, err
	}
	if l.ID, err = uuid.Parse(text); err != nil {
		return 0, err
	}
	return form, l.db.QueryRowContext(ctx, `SELECT MAX(version_id) FROM goose_db_version`).Scan(&form)
}

// checkTables refuses a file with something in it that is damaged.
func (l *Ledger) checkTables(ctx context.Context) error {
	if l.store.check == "" {
		return nil
	}
	if err := ourTables(ctx, l.db); err != nil {
		return err
	}
	return l.checkDatabase(ctx)
}

// schemaVersion is the newest form of the ledger that this program knows.
const schemaVersion = 15

func (l *Ledger) migrate(ctx context.Context) error {
	return l.store.exclusive(ctx, func() error {
		if err := l.migrateTables(ctx); err != nil || l.store.check == "" {
			return err
		}
		return l.addChecksums(ctx)
	})
}

func (l *Ledger) migrateTables(ctx context.Context) error {
	folder, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(l.store.dialect, l.db, folder, goose.WithDisableGlobalRegistry(true))
	if err != nil {
		return err
	}
	form, err := p.GetDBVersion(ctx)
	if err != nil {
		return err
	}
	if form > schemaVersion {
		return fmt.Errorf("it was written by a newer mintbatch (version %d, this program supports up to %d); use that program", form, schemaVersion)
	}
	if 0 < form && form < schemaVersion { // what is cut short between its tables and their checksums is gone on with where this word is missing
		if _, err := l.db.ExecContext(ctx, `DELETE FROM about WHERE name = 'schema'`); err != nil {
			return err
		}
	}
	_, err = p.Up(ctx)
	return err
}

// Close ends the use of the ledger; a second call does nothing.
func (l *Ledger) Close() error {
	l.closing.Do(func() {
		if a := l.active.Swap(nil); a != nil {
			a.done()
		}
		close(l.queue)
		<-l.done
	})
	err := errors.Join(l.store.release(), l.db.Close())
	if l.cleanup != nil {
		err = errors.Join(err, l.cleanup())
	}
	return err
}
