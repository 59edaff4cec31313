package ledger

import (
	"context"
	"database/sql"
	"errors"
	"net"
	"net/url"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	_ "github.com/jackc/pgx/v5/stdlib" // the database driver
	"github.com/pressly/goose/v3"
)

// Two locks of the database (PostgreSQL: "Advisory Locks"): one for who changes
// its tables, one for who works on the ledger.
const (
	lockTables = 7236001
	lockRuns   = 7236002
)

// redacted is the URL of a database without the passwords that may stand in it.
func redacted(u url.URL) string {
	q := u.Query()
	for name := range q {
		if strings.Contains(strings.ToLower(name), "password") {
			q.Set(name, "xxxxx")
		}
	}
	if u.RawQuery != "" {
		u.RawQuery = q.Encode()
	}
	return u.Redacted()
}

// openShared opens a PostgreSQL database.
func openShared(name string) (*sql.DB, store, error) {
	s := store{name: "the ledger's database", dialect: goose.DialectPostgres, numbered: true, explain: explainShared,
		concurrent: true, clock: `(extract(epoch from clock_timestamp()) * 1000)::bigint`, locking: ` FOR KEY SHARE`, ending: ` FOR UPDATE`, writers: 6}
	u, err := url.Parse(name)
	if err != nil {
		return nil, s, errors.New("it is not a URL such as postgres://mint@db.brackwater.example/mintbatch")
	}
	s.name = redacted(*u)
	db, err := sql.Open("pgx", name)
	if err != nil {
		return nil, s, err
	}
	db.SetMaxIdleConns(s.writers + 2) // and one that reads, and the lock's
	s.exclusive = func(ctx context.Context, do func() error) error {
		c, err := db.Conn(ctx)
		if err != nil {
			return err
		}
		defer c.Close()
		if _, err := c.ExecContext(ctx, `SELECT pg_advisory_lock($1)`, lockTables); err != nil {
			return err
		}
		defer c.ExecContext(context.WithoutCancel(ctx), `SELECT pg_advisory_unlock($1)`, lockTables) //nolint:errcheck // it goes with the connection
		return do()
	}
	// The lock is the connection's, and goes with it, however the process ends.
	var held *sql.Conn
	var holder int // the server's process that has the lock
	s.lock = func(ctx context.Context) (ok bool, err error) {
		c, err := db.Conn(ctx)
		if err != nil {
			return false, err
		}
		var process int
		if err = c.QueryRowContext(ctx, `SELECT pg_try_advisory_lock($1), pg_backend_pid()`, lockRuns).Scan(&ok, &process); err != nil || !ok {
			return false, errors.Join(err, c.Close())
		}
		held, holder = c, process
		return true, nil
	}
	// Whoever was cut off may wake up while another has the ledger. What it would
	// write then is refused.
	s.fence = func(tx session) error {
		if held == nil {
			return nil
		}
		return tx.Claimed(`SELECT 1 FROM pg_locks WHERE locktype = 'advisory' AND objid = ? AND pid = ? AND granted`, lockRuns, holder)
	}
	s.release = func() error {
		if held == nil {
			return nil
		}
		c := held
		held = nil
		_, err := c.ExecContext(context.Background(), `SELECT pg_advisory_unlock($1)`, lockRuns)
		return errors.Join(err, c.Close())
	}
	return db, s, nil
}

// explainShared says what to do about what the server says (PostgreSQL, appendix
// A: error codes).
func explainShared(err error) (string, bool) {
	var db *pgconn.PgError
	var network *net.OpError
	switch {
	case errors.As(err, &db):
		what, known := map[string]string{
			"28P01": "the password is wrong", "28000": "the login is refused; check the server's pg_hba.conf",
			"3D000": "the server has no such database; create it with createdb", "42501": "the login lacks a permission in the database; grant it",
			"53100": "the server's disk is full", "57P03": "the server is starting; run the same command again", "53300": "the server has too many connections",
		}[db.Code]
		return what, known
	case errors.As(err, &network):
		return "the server does not answer: " + network.Err.Error(), true
	}
	return "", false
}
