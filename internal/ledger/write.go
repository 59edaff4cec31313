package ledger

import (
	"context"
	"database/sql"
	"strconv"
	"strings"
	"sync"
)

// Every write is durable before its caller goes on, and a disk can make only
// so many writes durable in a second. Writes that come while one is under way
// are therefore made durable together, in one transaction.

type write struct {
	ctx  context.Context
	do   func(*transaction) error
	err  error
	done chan struct{}
}

// write runs do in a transaction; when it returns nil, what it did is durable.
// A do that fails leaves nothing behind and does not harm the others.
func (l *Ledger) write(ctx context.Context, do func(*transaction) error) error {
	l.preloaded.Store(nil)
	w := &write{ctx: ctx, do: do, done: make(chan struct{})}
	if l.Hook != nil {
		if err := l.Hook("before a write"); err != nil {
			return l.explain(err)
		}
	}
	l.queue <- w
	<-w.done
	if w.err == nil && l.Hook != nil {
		w.err = l.Hook("after a write")
	}
	if w.err != nil {
		return l.explain(w.err)
	}
	return nil
}

// maxBatch bounds a transaction, so that the first caller does not wait
// for the last.
const maxBatch = 500

func (l *Ledger) writeAll() {
	defer close(l.done)
	for w := range l.queue {
		batch := []*write{w}
	gather:
		for len(batch) < maxBatch {
			select {
			case more, open := <-l.queue:
				if !open {
					break gather
				}
				batch = append(batch, more)
			default:
				break gather
			}
		}
		l.commit(batch)
		for _, w := range batch {
			close(w.done)
		}
	}
}

func (l *Ledger) commit(batch []*write) {
	err := l.retryWhileDown(func() (bool, error) { return true, l.commitOnce(batch) })
	if err != nil {
		for _, w := range batch {
			if w.err == nil {
				w.err = err
			}
		}
	}
}

func (l *Ledger) commitOnce(batch []*write) error {
	for _, w := range batch {
		w.err = nil
	}
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	t := &transaction{tx, l.store, l.prepared}
	if err := l.checkClaim(t); err != nil {
		return err
	}
	for _, w := range batch {
		if w.err = w.ctx.Err(); w.err != nil {
			continue
		}
		if len(batch) == 1 {
			if w.err = w.do(t); w.err != nil {
				return w.err
			}
			continue
		}
		if _, err := tx.Exec(`SAVEPOINT one`); err != nil {
			return err
		}
		if w.err = w.do(t); w.err != nil {
			if _, err := tx.Exec(`ROLLBACK TO one`); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(`RELEASE one`); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// transaction is one of the ledger's database, whichever that is. Queries have
// question marks for their values.
type transaction struct {
	*sql.Tx
	store    store
	prepared func(query string) (*sql.Stmt, error)
}

// Exec is that of sql.Tx.
func (t *transaction) Exec(query string, args ...any) (sql.Result, error) {
	if t.store.numbered { // the driver keeps what it has prepared
		return t.Tx.Exec(t.store.query(query), args...)
	}
	s, err := t.prepared(query)
	if err != nil {
		return nil, err
	}
	return t.Stmt(s).Exec(args...)
}

// statements are those that were prepared; there are few, and each is parsed once.
type statements struct {
	mu  sync.Mutex
	all map[string]*sql.Stmt
}

func (l *Ledger) prepared(query string) (s *sql.Stmt, err error) {
	l.statements.mu.Lock()
	defer l.statements.mu.Unlock()
	if s = l.statements.all[query]; s == nil {
		if s, err = l.db.Prepare(query); err != nil {
			return nil, err
		}
		l.statements.all[query] = s
	}
	return s, nil
}

// QueryRow is that of sql.Tx.
func (t *transaction) QueryRow(query string, args ...any) *sql.Row {
	return t.Tx.QueryRow(t.store.query(query), args...)
}

// query writes a query with the placeholders that the database takes.
func (s store) query(q string) string {
	if !s.numbered {
		return q
	}
	var b strings.Builder
	n := 0
	for _, r := range q {
		if r == '?' {
			n++
			b.WriteString("$" + strconv.Itoa(n))
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}
