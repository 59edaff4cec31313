package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/gofrs/flock"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// openFile opens the SQLite database in a file.
func openFile(path string) (*sql.DB, store, error) {
	s := store{name: path, dialect: goose.DialectSQLite3, explain: explainFile}
	path, err := ownerOnly(path)
	if err != nil {
		return nil, s, err
	}
	if err := ownDatabase(path); err != nil {
		return nil, s, err
	}
	held := flock.New(path + ".lock")
	s.clock = `CAST((julianday('now') - 2440587.5) * 86400000 AS INTEGER)`
	s.exclusive = func(_ context.Context, do func() error) error {
		guard := flock.New(path + ".migrate")
		if err := guard.Lock(); err != nil {
			return err
		}
		defer guard.Unlock() //nolint:errcheck // it goes with the process
		return do()
	}
	s.lock = func(context.Context) (bool, error) { return held.TryLock() }
	s.release = held.Unlock
	s.fence = func(session) error { return nil } // the system's lock is not lost while the process lives
	s.bulk = `PRAGMA cache_size = -8192`         // in KiB
	s.check = `SELECT integrity_check, '', '' FROM pragma_integrity_check WHERE integrity_check <> 'ok'`
	db, err := sql.Open("sqlite", uri(path)+"?_pragma=busy_timeout(30000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)&_txlock=immediate")
	if err == nil {
		db.SetMaxIdleConns(idleConnections)
	}
	return db, s, err
}

// idleConnections are kept for those who read at the same time: each that is opened reads all
// of the tables' definitions.
const idleConnections = 8

// uri names a file, whatever is in its name (SQLite: "Uniform Resource
// Identifiers").
func uri(path string) string {
	slashed := filepath.ToSlash(path)
	if !strings.HasPrefix(slashed, "/") { // such as C:/
		slashed = "/" + slashed
	}
	return "file:" + (&url.URL{Path: slashed}).EscapedPath()
}

// ownerOnly ensures that the file is there and nobody else's to read. It returns
// the file's one name, by which all who mean this file lock it.
func ownerOnly(path string) (string, error) {
	folder, err := filepath.Abs(filepath.Dir(path))
	if err == nil {
		folder, err = filepath.EvalSymlinks(folder)
	}
	if err != nil {
		return "", fmt.Errorf("its folder does not exist: %w", err)
	}
	path = filepath.Join(folder, filepath.Base(path))
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	} else if _, broken := os.Lstat(path); broken == nil {
		return "", errors.New("it is a link to a file that does not exist")
	}
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			return "", err
		}
		return path, f.Close()
	case err != nil:
		return "", err
	case !info.Mode().IsRegular():
		return "", errors.New("it is not a regular file")
	case names(info) > 1:
		// The database keeps what is not yet in the file beside the name by which it
		// was opened: by another name that would be missing.
		return "", fmt.Errorf("the file has %d hard links; remove all but one", names(info))
	}
	return path, nil
}

// ownDatabase refuses another program's database, which is only read for that and
// left as it is.
func ownDatabase(path string) error {
	info, err := os.Stat(path)
	if err != nil || info.Size() == 0 {
		return err
	}
	// What is not yet in the file can only be read by taking part in its locks.
	mode := "?immutable=1"
	if wal, err := os.Stat(path + "-wal"); err == nil && wal.Size() > 0 {
		mode = "?mode=ro&_pragma=busy_timeout(30000)"
	}
	db, err := sql.Open("sqlite", uri(path)+mode)
	if err != nil {
		return err
	}
	defer db.Close()
	return ourTables(context.Background(), db)
}

// ourTables refuses tables that are not those of a ledger. One that was begun and
// not finished has its form's table alone, or none.
func ourTables(ctx context.Context, db querier) error {
	var forms, about, others int
	err := db.QueryRowContext(ctx, `SELECT count(CASE name WHEN 'goose_db_version' THEN 1 END), count(CASE name WHEN 'about' THEN 1 END),
		count(CASE WHEN name NOT IN ('goose_db_version', 'about', 'sqlite_sequence') THEN 1 END) FROM sqlite_master WHERE type = 'table'`).Scan(&forms, &about, &others)
	switch {
	case err != nil || forms+about+others == 0:
		return err
	case forms == 0 || about == 0 && others > 0:
		return damaged("its tables are not those of a mintbatch ledger")
	}
	return nil
}

// advice says what to do about what the database says.
var advice = map[int]string{
	sqlite3.SQLITE_FULL:     "its disk is full; free some space, then run the same command again",
	sqlite3.SQLITE_READONLY: "it cannot be written to; check its permissions and those of its folder",
	sqlite3.SQLITE_CANTOPEN: "it cannot be opened for writing; check the permissions of its folder",
	sqlite3.SQLITE_NOTADB:   "file is not a database; name the right file under `ledger` in the setup",
	sqlite3.SQLITE_ERROR:    "unexpected schema; restore it from a copy before going on",
	sqlite3.SQLITE_CORRUPT:  "it is damaged; restore it from a copy before going on",
	sqlite3.SQLITE_IOERR:    "reading or writing its disk failed; check whether it is full or faulty",
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
