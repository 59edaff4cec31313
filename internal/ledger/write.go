package ledger

import (
	"context"
	"strconv"
	"strings"
	"sync"
)

// Every write is durable before its caller goes on, and a disk can make only
// so many writes durable in a second. Writes that come while one is under way
// are therefore made durable together, in one transaction. A server, to which each
// statement travels, has several transactions under way at once.

type write struct {
	ctx   context.Context
	do    func(transaction) error
	drawn drawn
	err   error
	done  chan struct{}
}

// write runs do in a transaction; when it returns nil, what it did is durable.
// A do that fails leaves nothing behind and does not harm the others. It may be run more than once.
func (l *Ledger) write(ctx context.Context, do func(transaction) error) error {
	if l.reader {
		return l.explain(ErrReader)
	}
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

// maxBatch bounds a transaction, so that the first caller does not wait for the last;
// maxShare, where several are under way at once, so that none does the work of all.
const (
	maxBatch = 500
	maxShare = 8
)

// writeAll lets as many transactions be under way as the database can well have.
func (l *Ledger) writeAll() {
	defer close(l.done)
	var writers sync.WaitGroup
	for range max(1, l.store.writers) {
		writers.Go(l.writeSome)
	}
	writers.Wait()
}

func (l *Ledger) writeSome() {
	most := maxBatch
	if l.store.writers > 1 {
		most = maxShare
	}
	for w := range l.queue {
		batch := []*write{w}
	gather:
		for len(batch) < most {
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

// commit makes writes durable: together, or if one of them fails, each by itself.
func (l *Ledger) commit(batch []*write) {
	var err error
	for try := 0; try == 0 || isPassed(err) && len(batch) == 1 && try < mostPassed; try++ {
		err = l.retryWhileDown(func() (bool, error) { return true, l.commitOnce(batch) })
	}
	switch {
	case err == nil:
	case len(batch) == 1:
		batch[0].err = err
	default:
		for _, w := range batch {
			l.commit([]*write{w})
		}
	}
}

// mostPassed is how often a write is tried that the server gave up for another
// transaction's sake.
const mostPassed = 10

func (l *Ledger) commitOnce(batch []*write) error {
	tx, err := l.begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	if err := l.checkClaim(tx); err != nil {
		return err
	}
	for _, w := range batch {
		if w.err = w.ctx.Err(); w.err != nil {
			continue
		}
		done, err := w.wasDone(tx)
		if err != nil {
			return err
		}
		if done {
			continue
		}
		w.drawn.next = 0
		if err := w.do(transaction{tx, &w.drawn}); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// wasDone reports whether the history has an event of an earlier try, of which only the answer was lost.
func (w *write) wasDone(tx session) (done bool, err error) {
	if len(w.drawn.all) == 0 {
		return false, nil
	}
	earlier := in("id", w.drawn.all)
	err = tx.QueryRow(`SELECT EXISTS (SELECT 1 FROM history WHERE `+earlier.condition+`)`, earlier.args...).Scan(&done)
	return done, err
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
