package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// openFile opens the SQLite database in a file.
func openFile(path string) (*sql.DB, store, error) {
	held := flock.New(path + ".lock")
	s := store{
		name: path, dialect: goose.DialectSQLite3,
		clock: `CAST((julianday('now') - 2440587.5) * 86400000 AS INTEGER)`,
		alone: func(_ context.Context, do func() error) error {
			guard := flock.New(path + ".migrate")
			if err := guard.Lock(); err != nil {
				return err
			}
			defer guard.Unlock() //nolint:errcheck // it goes with the process
			return do()
		},
		hold:    func(context.Context) (bool, error) { return held.TryLock() },
		release: held.Unlock,
		fence:   func(*sql.Tx) error { return nil }, // the system's lock is not lost while the process lives
		explain: explainFile,
		check:   `SELECT integrity_check, '', '' FROM pragma_integrity_check WHERE integrity_check <> 'ok'`,
	}
	if err := private(path); err != nil {
		return nil, s, err
	}
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(30000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)&_txlock=immediate")
	return db, s, err
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

// advice says what to do about what the database says.
var advice = map[int]string{
	sqlite3.SQLITE_FULL:     "its disk is full; free some space, then run the same command again",
	sqlite3.SQLITE_READONLY: "it cannot be written to; check its permissions and those of its folder",
	sqlite3.SQLITE_CANTOPEN: "it cannot be opened for writing; check the permissions of its folder",
	sqlite3.SQLITE_NOTADB:   "file is not a database; name the right file under `ledger` in the setup",
	sqlite3.SQLITE_ERROR:    "it does not have the form that it should; put a copy of it in its place before going on",
	sqlite3.SQLITE_CORRUPT:  "it is damaged; put a copy of it in its place before going on",
	sqlite3.SQLITE_IOERR:    "its disk does not read or write; look whether it is full, or broken",
	// The file beside it that processes share could not be made as long as it is to be.
	sqlite3.SQLITE_IOERR_SHMSIZE: "its disk is full; free some space, then run the same command again",
}

func explainFile(err error) (string, bool) {
	var db *sqlite.Error
	if !errors.As(err, &db) {
		return "", false
	}
	what, known := advice[db.Code()]
	if !known {
		what, known = advice[db.Code()&0xff]
	}
	return what, known
}
