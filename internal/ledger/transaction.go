package ledger

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"sync"

	"github.com/google/uuid"
)

// transaction is one in which a write is tried.
type transaction struct {
	session
	*drawn
}

// drawn are the ids that a write draws. They are the same when it is tried again.
type drawn struct {
	all  []string
	next int
}

// id returns the next one, drawn in a way.
func (d *drawn) id(draw func() (uuid.UUID, error)) string {
	if d.next++; d.next > len(d.all) {
		d.all = append(d.all, uuid.Must(draw()).String())
	}
	return d.all[d.next-1]
}

// session is a transaction of the ledger's database, whichever that is. Queries have question marks
// for their values.
type session interface {
	// Exec executes a statement. Whether a server did is only told by what follows: Count, Query,
	// QueryRow or Commit.
	Exec(query string, args ...any) error
	// Count executes a statement, and returns how many rows it was about.
	Count(query string, args ...any) (int, error)
	// Claimed is ErrLostClaim where a query finds no row; a server tells that as it does of Exec.
	Claimed(query string, args ...any) error
	Query(query string, args ...any) (*sql.Rows, error)
	QueryRow(query string, args ...any) rowScanner
	Commit() error
	// Rollback undoes all of it, unless it was committed.
	Rollback() error
}

// rowScanner is a row, or why there is none.
type rowScanner interface{ Scan(into ...any) error }

// begin begins a transaction.
func (l *Ledger) begin() (session, error) {
	if l.store.numbered {
		conn, err := l.db.Conn(context.Background())
		if err != nil {
			return nil, err
		}
		return newRemote(conn, l.store), nil
	}
	tx, err := l.db.Begin()
	return &local{tx, &l.statements, l.db}, err
}

// mostRows is how many rows are inserted by one statement.
const mostRows = 200

// insert inserts rows by one statement, which begins and ends as given, and returns how
// many there were.
func insert(tx transaction, begin string, rows [][]any, end string, more ...any) (int, error) {
	var q strings.Builder
	q.WriteString(begin)
	var args []any
	for i, row := range rows {
		if i > 0 {
			q.WriteByte(',')
		}
		q.WriteString(" (?" + strings.Repeat(", ?", len(row)-1) + ")")
		args = append(args, row...)
	}
	return tx.Count(q.String()+" "+end, append(args, more...)...)
}

// local is a transaction of a file.
type local struct {
	*sql.Tx
	statements *statements
	db         *sql.DB
}

func (t *local) Exec(query string, args ...any) error {
	_, err := t.Count(query, args...)
	return err
}

func (t *local) Count(query string, args ...any) (int, error) {
	s, err := t.statements.prepared(t.db, query)
	if err != nil {
		return 0, err
	}
	done, err := t.Stmt(s).Exec(args...)
	if err != nil {
		return 0, err
	}
	n, err := done.RowsAffected()
	return int(n), err
}

func (t *local) Claimed(query string, args ...any) error {
	err := t.QueryRow(query, args...).Scan(new(int))
	if errors.Is(err, sql.ErrNoRows) {
		return ErrLostClaim
	}
	return err
}

func (t *local) QueryRow(query string, args ...any) rowScanner { return t.Tx.QueryRow(query, args...) }

// statements are those that were prepared; there are few, and each is parsed once.
type statements struct {
	mu  sync.Mutex
	all map[string]*sql.Stmt
}

func (s *statements) prepared(db *sql.DB, query string) (prepared *sql.Stmt, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if prepared = s.all[query]; prepared == nil {
		if prepared, err = db.Prepare(query); err != nil {
			return nil, err
		}
		s.all[query] = prepared
	}
	return prepared, nil
}
