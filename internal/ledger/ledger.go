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
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"github.com/google/uuid"
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the database driver
)

// ErrLedger is what every failure of the ledger itself unwraps to: it cannot
// be opened, read or written.
var ErrLedger = errors.New("the ledger cannot be used")

// Ledger is an open ledger. Its methods may be called side by side.
type Ledger struct {
	// ID is drawn when the ledger is made, and is what the identities of its
	// machines derive from.
	ID uuid.UUID

	path  string
	db    *sql.DB
	lock  *flock.Flock
	queue chan *write
	done  chan struct{}

	closing sync.Once
}

//go:embed migrations/*.sql
var migrations embed.FS

// Open opens the SQLite ledger in a file, making it where there is none.
func Open(ctx context.Context, path string) (*Ledger, error) {
	l, err := open(ctx, path)
	if err != nil {
		return nil, explain(path, err)
	}
	return l, nil
}

func open(ctx context.Context, path string) (*Ledger, error) {
	if err := private(path); err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(30000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	l := &Ledger{path: path, db: db, lock: flock.New(path + ".lock"), queue: make(chan *write), done: make(chan struct{})}
	if err := l.prepare(ctx); err != nil {
		_ = db.Close()
		return nil, err
	}
	go l.writeAll()
	return l, nil
}

// private makes sure that the file is there and nobody else's to read.
func private(path string) error {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if _, err := os.Stat(filepath.Dir(path)); err != nil {
			return fmt.Errorf("its folder is not there: %w", err)
		}
		f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			return err
		}
		return f.Close()
	case err != nil:
		return err
	case !info.Mode().IsRegular():
		return errors.New("it is not a file")
	}
	return nil
}

func (l *Ledger) prepare(ctx context.Context) error {
	if err := l.migrate(ctx); err != nil {
		return err
	}
	// Whoever comes first draws the id; everybody reads what then stands there.
	if _, err := l.db.ExecContext(ctx, `INSERT INTO about (name, value) VALUES ('id', ?) ON CONFLICT DO NOTHING`, uuid.NewString()); err != nil {
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
	// One process migrates at a time; the others find it done.
	guard := flock.New(l.path + ".migrate")
	if err := guard.Lock(); err != nil {
		return err
	}
	defer guard.Unlock() //nolint:errcheck // it goes with the process
	folder, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, l.db, folder, goose.WithDisableGlobalRegistry(true))
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
}

// Close ends the use of the ledger; a second call does nothing.
func (l *Ledger) Close() error {
	l.closing.Do(func() {
		close(l.queue)
		<-l.done
	})
	return errors.Join(l.lock.Unlock(), l.db.Close())
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
	ok, err := l.lock.TryLock()
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
