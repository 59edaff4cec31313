package ledger

import (
	"errors"
	"fmt"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// advice says what to do about what the database says.
var advice = map[int]string{
	sqlite3.SQLITE_FULL:     "its disk is full; free some space, then run the same command again",
	sqlite3.SQLITE_READONLY: "it cannot be written to; check its permissions and those of its folder",
	sqlite3.SQLITE_CANTOPEN: "it cannot be opened for writing; check the permissions of its folder",
	sqlite3.SQLITE_NOTADB:   "file is not a database; name the right file under `ledger` in the setup",
	sqlite3.SQLITE_CORRUPT:  "it is damaged; put a copy of it in its place before going on",
	sqlite3.SQLITE_IOERR:    "its disk does not read or write; look at the disk",
}

// explained makes an error of the ledger of what went wrong with its file.
func (l *Ledger) explained(err error) error { return explain(l.path, err) }

func explain(path string, err error) error {
	var db *sqlite.Error
	if errors.As(err, &db) {
		if what, ok := advice[db.Code()&0xff]; ok {
			return fmt.Errorf("%w: %s: %s", ErrLedger, path, what)
		}
	}
	return fmt.Errorf("%w: %s: %w", ErrLedger, path, err)
}
