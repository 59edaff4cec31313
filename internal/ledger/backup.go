package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
)

// ErrServer means that a ledger is in a database server, whose own tools back it up.
var ErrServer = errors.New("the ledger is in a database server; back it up there, for example with pg_dump")

// BackUp copies the ledger to a file that is not there yet, as it is at one moment, also while
// runs are at work. The copy is checked: integrity, the ledger's id, and every row's checksum.
func (l *Ledger) BackUp(ctx context.Context, to string) error {
	if l.store.concurrent {
		return ErrServer
	}
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600) // nobody else may read it, not for a moment
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	if _, err := l.db.ExecContext(ctx, `VACUUM INTO ?`, to); err != nil {
		return errors.Join(l.explain(err), os.Remove(to))
	}
	if err := l.checkCopy(ctx, to); err != nil {
		return errors.Join(fmt.Errorf("%w: the copy cannot be trusted: %w", ErrLedger, err), os.Remove(to))
	}
	return syncFile(to)
}

// checkCopy looks at every row of a copy.
func (l *Ledger) checkCopy(ctx context.Context, path string) error {
	db, err := sql.Open("sqlite", uri(path)+"?mode=ro")
	if err != nil {
		return err
	}
	defer db.Close()
	c := &Ledger{db: db, store: l.store, timeout: l.timeout}
	var fault string
	if err := c.read(ctx, l.store.check, func(row *sql.Rows) error { var x, y string; return row.Scan(&fault, &x, &y) }); err != nil {
		return err
	}
	if fault != "" {
		return damaged(fault)
	}
	for _, t := range layout {
		if err := c.checkRows(ctx, t.name, ""); err != nil {
			return err
		}
	}
	var id string
	if err := c.read(ctx, `SELECT value FROM about WHERE name = 'id'`, func(row *sql.Rows) error { return row.Scan(&id) }); err != nil {
		return err
	}
	if id != l.ID.String() {
		return damaged("it has another id")
	}
	return nil
}

func syncFile(path string) error {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}
