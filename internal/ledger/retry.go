package ledger

import (
	"database/sql/driver"
	"errors"
	"io"
	"net"
	"slices"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
)

// A run at a server that is restarted, or out of reach for a moment, goes on: nobody
// else may have its machines as long as its signs of life are not too old, and what it
// writes is tried again until then.

// retryDelay is how long the server is left alone before it is tried again.
const retryDelay = 250 * time.Millisecond

// retryWhileDown does something with the database, again for as long as the server is away and
// the run is not taken for dead, where it may be done again.
func (l *Ledger) retryWhileDown(do func() (again bool, err error)) error {
	for {
		again, err := do()
		if err == nil || !again || l.active.Load() == nil || !l.store.concurrent || !isDown(err) || l.Current() != nil {
			return err
		}
		time.Sleep(retryDelay)
	}
}

// downCodes are what a server says that goes down or comes up (PostgreSQL, appendix A:
// classes 57 and 08), or has too many connections for now.
var downCodes = []string{"57P01", "57P02", "57P03", "08000", "08001", "08003", "08004", "08006", "53300"}

// isPassed reports whether the server has given a transaction up so that another can go on, or for one that had
// the same to write: perhaps an earlier try, of which the answer was lost (PostgreSQL, appendix A: 40P01, 40001, 23505).
func isPassed(err error) bool {
	var said *pgconn.PgError
	return errors.As(err, &said) && slices.Contains([]string{"40P01", "40001", "23505"}, said.Code)
}

// isDown reports whether an error says that the server is not there, rather than that it
// will not.
func isDown(err error) bool {
	var said *pgconn.PgError
	if errors.As(err, &said) {
		return slices.Contains(downCodes, said.Code)
	}
	var network *net.OpError
	return errors.As(err, &network) || pgconn.SafeToRetry(err) || errors.Is(err, driver.ErrBadConn) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF)
}
