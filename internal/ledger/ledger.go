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

	db    *sql.DB
	store store
	queue chan *write
	done  chan struct{}

	closing sync.Once
}

// store is what differs between the databases that a ledger can be in.
type store struct {
	name     string // for messages, without a password
	dialect  goose.Dialect
	numbered bool // placeholders are $1, $2, ...
	// alone lets one process at a time do something to the database as a whole.
	alone func(ctx context.Context, do func() error) error
	// hold keeps other runs away, unless one has the ledger; release ends that.
	hold    func(ctx context.Context) (bool, error)
	release func() error
	// fence, in a transaction, refuses a run whose hold was lost meanwhile.
	fence   func(tx *sql.Tx) error
	explain func(err error) (what string, known bool)
	check   string // a query for faults of the database itself
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
	l := &Ledger{db: db, store: s, queue: make(chan *write), done: make(chan struct{})}
	if err := l.prepare(ctx); err != nil {
		_ = db.Close()
		return nil, explain(s, err)
	}
	go l.writeAll()
	return l, nil
}

func (l *Ledger) prepare(ctx context.Context) error {
	if err := l.migrate(ctx); err != nil {
		return err
	}
	// Whoever comes first draws the id; everybody reads what then stands there.
	if _, err := l.db.ExecContext(ctx, l.store.query(`INSERT INTO about (name, value) VALUES ('id', ?) ON CONFLICT DO NOTHING`), uuid.NewString()); err != nil {
		return err
	}
	var text string
	if err := l.db.QueryRowContext(ctx, `SELECT value FROM about WHERE name = 'id'`).Scan(&text); err != nil {
		return err
	}
	id, err := uuid.Parse(text)
	l.ID = id
	return err
}

// newest is the newest form of the ledger that this program knows.
const newest = 2

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
		close(l.queue)
		<-l.done
	})
	return errors.Join(l.store.release(), l.db.Close())
}

// Busy says that another run has the ledger.
type Busy struct{ Run Run }

// Error names the run that is in the way.
func (b *Busy) Error() string {
	if b.Run.ID == "" {
		return "another run is working on this ledger"
	}
	return fmt.Sprintf("run %s (%s by %s on %s, since %s) is working on this ledger",
		b.Run.ID, b.Run.Command, b.Run.User, b.Run.Host, b.Run.Started.Local().Format(time.TimeOnly))
}

// Hold keeps other runs away until Close, or until the process ends in
// whatever way. When another run holds the ledger it returns a *Busy.
func (l *Ledger) Hold(ctx context.Context) error {
	ok, err := l.store.hold(ctx)
	if err != nil {
		return l.explained(err)
	}
	if ok {
		return nil
	}
	runs, err := l.Runs(ctx)
	if err != nil {
		return err
	}
	busy := &Busy{}
	for _, r := range runs {
		if r.Ended.IsZero() {
			busy.Run = r
		}
	}
	return busy
}
