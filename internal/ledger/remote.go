package ledger

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
)

// remote is a transaction of a server, which may be far away: statements wait, and travel
// together with the next that is asked for its result, or with the end.
type remote struct {
	conn    *sql.Conn
	store   store
	waiting pgx.Batch
	failed  error // of what was sent: nothing more is
	ended   bool
}

// newRemote begins a transaction with whatever comes first, on a connection that it gives back.
func newRemote(conn *sql.Conn, s store) *remote {
	t := &remote{conn: conn, store: s}
	t.waiting.Queue(`BEGIN`)
	return t
}

func (t *remote) Exec(query string, args ...any) error {
	t.waiting.Queue(t.store.query(query), args...)
	return nil
}

func (t *remote) Count(query string, args ...any) (n int, err error) {
	t.waiting.Queue(t.store.query(query), args...).Exec(func(done pgconn.CommandTag) error {
		n = int(done.RowsAffected())
		return nil
	})
	err = t.send()
	return n, err
}

// Claimed lets the transaction end where there is no row, without waiting for the answer.
func (t *remote) Claimed(query string, args ...any) error {
	return t.Exec(`SELECT 1 / count(*) FROM (`+query+`) claimed`, args...)
}

func (t *remote) Query(query string, args ...any) (*sql.Rows, error) {
	if err := t.send(); err != nil {
		return nil, err
	}
	return t.conn.QueryContext(context.Background(), t.store.query(query), args...)
}

func (t *remote) QueryRow(query string, args ...any) rowScanner {
	if err := t.send(); err != nil {
		return noRow{err}
	}
	return t.conn.QueryRowContext(context.Background(), t.store.query(query), args...)
}

type noRow struct{ error }

func (r noRow) Scan(...any) error { return r.error }

func (t *remote) Commit() error {
	t.waiting.Queue(`COMMIT`).Exec(func(done pgconn.CommandTag) error {
		if done.String() != "COMMIT" { // a statement had failed
			return pgx.ErrTxCommitRollback
		}
		return nil
	})
	if err := t.send(); err != nil {
		return err
	}
	t.ended = true
	return t.conn.Close()
}

// Rollback lets the pool throw away a connection whose transaction it cannot end.
func (t *remote) Rollback() error {
	if t.ended {
		return nil
	}
	t.ended = true
	_, err := t.conn.ExecContext(context.Background(), `ROLLBACK`)
	return errors.Join(err, t.conn.Close())
}

// send sends what waits, in one go. What comes after a statement that fails is not executed.
func (t *remote) send() error {
	if t.failed != nil || t.waiting.Len() == 0 {
		return t.failed
	}
	t.failed = t.conn.Raw(func(driver any) error {
		return driver.(*stdlib.Conn).Conn().SendBatch(context.Background(), &t.waiting).Close()
	})
	t.waiting = pgx.Batch{}
	var said *pgconn.PgError
	if errors.As(t.failed, &said) && said.Code == divisionByZero {
		t.failed = ErrLostClaim
	}
	return t.failed
}

// divisionByZero is what the server says of one (PostgreSQL, appendix A: 22012), as only Claimed asks for.
const divisionByZero = "22012"
