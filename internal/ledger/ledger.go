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

	closing sync.Once
	active  atomic.Pointer[active]
	ready   atomic.Pointer[[]Machine] // read by Hold, for whoever asks before anything is written
	silence time.Duration

	statements statements
}

// store is what differs between the databases that a ledger can be in.
type store struct {
	name     string // for messages, without a password
	dialect  goose.Dialect
	numbered bool // placeholders are $1, $2, ...
	// alone lets one process at a time do something to the database as a whole.
	alone func(ctx context.Context, do func() error) error
	// hold keeps others away, unless one has the ledger; release ends that.
	hold    func(ctx context.Context) (bool, error)
	release func() error
	// fence, in a transaction, refuses whoever lost the hold meanwhile.
	fence func(tx *sql.Tx) error
	// together tells whether several runs may work at once, each on its machines.
	together bool
	clock    string // an expression of the database's time in ms
	locking  string // after a query, keeps its rows from being changed
	explain  func(err error) (what string, known bool)
	check    string // a query for faults of the database itself
}

//go:embed migrations/*.sql
var migrations embed.FS

// IsShared tells whether a ledger's name is that of a database that several
// operators share, and not of a file.
func IsShared(name string) bool {
	return strings.HasPrefix(name, "postgres://") || strings.HasPrefix(name, "postgresql://")
}

// Open opens the ledger in a SQLite file, making it where there is none, or in a
// PostgreSQL database, postgres://USER@HOST/DATABASE.
func Open(ctx context.Context, name string) (*Ledger, error) {
	open := openFile
	if IsShared(name) {
		open = openShared
	}
	db, s, err := open(name)
	if err != nil {
		return nil, explain(s, err)
	}
	l := &Ledger{db: db, store: s, queue: make(chan *write), done: make(chan struct{}), silence: usualSilence, statements: statements{all: map[string]*sql.Stmt{}}}
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
	if form, err := l.identify(ctx); err == nil && form == newest {
		return nil
	}
	if err := l.whole(ctx); err != nil {
		return err
	}
	if err := l.migrate(ctx); err != nil {
		return err
	}
	// Whoever comes first draws the id; everybody reads what then stands there.
	if _, err := l.db.ExecContext(ctx, l.store.query(`INSERT INTO about (name, value) VALUES ('id', ?) ON CONFLICT DO NOTHING`), uuid.NewString()); err != nil {
		return err
	}
	_, err := l.identify(ctx)
	return err
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

// whole refuses a file with something in it that is damaged.
func (l *Ledger) whole(ctx context.Context) error {
	if l.store.check == "" {
		return nil
	}
	var forms, about, others int // a ledger that was begun and not finished has its form's table alone
	err := l.db.QueryRowContext(ctx, `SELECT count(CASE name WHEN 'goose_db_version' THEN 1 END), count(CASE name WHEN 'about' THEN 1 END),
		count(CASE WHEN name NOT IN ('goose_db_version', 'about', 'sqlite_sequence') THEN 1 END) FROM sqlite_master WHERE type = 'table'`).Scan(&forms, &about, &others)
	switch {
	case err != nil || forms+about+others == 0:
		return err
	case forms == 0 || about == 0 && others > 0:
		return damaged("its tables are not those of a ledger")
	}
	return l.faultless(ctx)
}

// newest is the newest form of the ledger that this program knows.
const newest = 4

func (l *Ledger) migrate(ctx context.Context) error {
	return l.store.alone(ctx, func() error {
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
		if form > newest {
			return fmt.Errorf("it was written by a newer mintbatch (form %d, this program knows up to %d); use that one", form, newest)
		}
		_, err = p.Up(ctx)
		return err
	})
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
	return errors.Join(l.store.release(), l.db.Close())
}
