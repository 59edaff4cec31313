package ledger

import (
	"context"
	"database/sql"
)

// Every write is durable before its caller goes on, and a disk can make only
// so many writes durable in a second. Writes that come while one is under way
// are therefore made durable together, in one transaction.

type write struct {
	ctx  context.Context
	do   func(*sql.Tx) error
	err  error
	done chan struct{}
}

// write runs do in a transaction; when it returns nil, what it did is durable.
// A do that fails leaves nothing behind and does not harm the others.
func (l *Ledger) write(ctx context.Context, do func(*sql.Tx) error) error {
	w := &write{ctx: ctx, do: do, done: make(chan struct{})}
	l.queue <- w
	<-w.done
	if w.err != nil {
		return l.explained(w.err)
	}
	return nil
}

// mostTogether bounds a transaction, so that the first caller does not wait
// for the last.
const mostTogether = 500

func (l *Ledger) writeAll() {
	defer close(l.done)
	for w := range l.queue {
		batch := []*write{w}
	gather:
		for len(batch) < mostTogether {
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
	err := func() error {
		tx, err := l.db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
		for _, w := range batch {
			if w.err = w.ctx.Err(); w.err != nil {
				continue
			}
			if _, err := tx.Exec(`SAVEPOINT one`); err != nil {
				return err
			}
			if w.err = w.do(tx); w.err != nil {
				if _, err := tx.Exec(`ROLLBACK TO one`); err != nil {
					return err
				}
			}
			if _, err := tx.Exec(`RELEASE one`); err != nil {
				return err
			}
		}
		return tx.Commit()
	}()
	if err != nil {
		for _, w := range batch {
			if w.err == nil {
				w.err = err
			}
		}
	}
}
