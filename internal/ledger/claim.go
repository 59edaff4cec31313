package ledger

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/quota"
)

// usualTimeout is how long a run may be silent before others take it for dead.
// The run itself stops well before: what it may do is bounded by its own clock.
const usualTimeout = 30 * time.Second

// ErrLostClaim means that a run was silent for so long, or lost its hold in such a
// way, that another may have its machines now.
var ErrLostClaim = errors.New("this run lost its claim on its machines, and another run may have them now; run the same command again")

// active is the run that this process has under way.
type active struct {
	run        string
	lock       *flock.Flock // held while the process lives; nil if it could not be
	heartbeat  atomic.Pointer[time.Time]
	end        chan struct{}
	heartbeats sync.WaitGroup

	ending sync.Once
}

// ErrRunExists means that the ledger has a run of this id already.
var ErrRunExists = errors.New("there is a run of this id already")

// Claim is a machine that a run works on.
type Claim struct {
	machine.Key
	// Uses is what quotas count for it meanwhile; nil for what the ledger has of it.
	Uses *quota.Use
}

// Claims are of machines that use what the ledger says.
func Claims(keys ...machine.Key) []Claim {
	all := make([]Claim, len(keys))
	for i, key := range keys {
		all[i].Key = key
	}
	return all
}

// Claimed is what quotas count for machines that runs work on and that will not be, once they are made, as the ledger has them.
func (l *Ledger) Claimed(ctx context.Context) (map[machine.Key]quota.Use, error) {
	all := map[machine.Key]quota.Use{}
	err := l.read(ctx, `SELECT site, machine, uses FROM claims WHERE uses <> '' AND run IN (SELECT id FROM runs WHERE outcome = '')`, func(row *sql.Rows) error {
		var key machine.Key
		var text string
		err := row.Scan(&key.Site, &key.Name, &text)
		if err == nil {
			use := quota.Use{Site: key.Site}
			err = json.Unmarshal([]byte(text), &use)
			all[key] = use
		}
		return err
	})
	return all, err
}

// StartRun writes that a run begins. Its machines are worked on by no other until
// it ends, or is dead, and the addresses that are reserved for it are kept as long.
// An id that another run has is an ErrRunExists.
func (l *Ledger) StartRun(ctx context.Context, r Run, works []Claim, reserved []Reservation) error {
	a := &active{run: r.ID, end: make(chan struct{})}
	if l.store.concurrent {
		a.lock = flock.New(heartbeatFile(r.ID))
		if ok, err := a.lock.TryLock(); err != nil || !ok {
			a.lock = nil // its silence will have to tell
		}
	}
	began := time.Now()
	r.Started = began
	err := l.write(ctx, func(tx transaction) error {
		if err := recordHolder(tx, r.String()); err != nil {
			return err
		}
		inserted, err := tx.Count(`INSERT INTO runs (id, command, user_name, host_name, sheet, setup, started, beat) VALUES (?, ?, ?, ?, ?, ?, ?, `+l.store.clock+`) ON CONFLICT DO NOTHING`,
			r.ID, r.Command, r.User, r.Host, r.Sheet, r.Setup, began.UTC().Format(time.RFC3339Nano))
		if err != nil || inserted == 0 {
			return cmp.Or(err, ErrRunExists)
		}
		for some := range slices.Chunk(works, mostRows) {
			claims, orders := make([][]any, len(some)), make([][]any, len(some))
			for i, c := range some {
				uses := ""
				if c.Uses != nil {
					uses = encode(c.Uses)
				}
				claims[i], orders[i] = []any{c.Site, c.Name, r.ID, uses}, []any{r.ID, c.Site, c.Name}
			}
			if _, err := insert(tx, `INSERT INTO claims (site, machine, run, uses) VALUES`, claims, ``); err != nil {
				return err
			}
			if _, err := insert(tx, `INSERT INTO orders (run, site, machine) VALUES`, orders, ``); err != nil {
				return err
			}
		}
		for some := range slices.Chunk(reserved, mostRows) {
			if err := reserveForRun(tx, some, r.ID); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		a.done()
		return err
	}
	a.heartbeat.Store(&began)
	l.active.Store(a)
	if l.store.concurrent {
		a.heartbeats.Go(func() { l.sendHeartbeats(a) })
	}
	return nil
}

func heartbeatFile(run string) string { return filepath.Join(os.TempDir(), "mintbatch-"+run+".alive") }

// sendHeartbeats records at intervals that the run is alive, until it ends or cannot.
func (l *Ledger) sendHeartbeats(a *active) {
	for tick := time.NewTicker(l.timeout / 6); ; {
		select {
		case <-a.end:
			tick.Stop()
			return
		case <-tick.C:
		}
		began := time.Now()
		err := l.write(context.Background(), func(tx transaction) error {
			return tx.Exec(`UPDATE runs SET beat = `+l.store.clock+` WHERE id = ?`, a.run)
		})
		if err == nil {
			a.heartbeat.Store(&began)
		}
	}
}

// Current reports whether the run may still act: it returns an error when its
// last sign of life is so old that others may soon take it for dead. A process
// that was put to sleep learns here that it has slept.
func (l *Ledger) Current() error {
	a := l.active.Load()
	if a == nil || !l.store.concurrent {
		return nil
	}
	last := *a.heartbeat.Load()
	// The monotonic clock stands still while some systems sleep, the other may be set.
	if silent := max(time.Since(last), time.Since(last.Round(0))); silent > l.timeout*2/3 {
		return l.explain(ErrLostClaim)
	}
	return nil
}

// done ends the signs of life.
func (a *active) done() {
	a.ending.Do(func() { close(a.end) })
	a.heartbeats.Wait()
	if a.lock != nil {
		_ = os.Remove(a.lock.Path())
		_ = a.lock.Unlock()
	}
}

// EndRun writes how a run ended. What it had reserved and not used is free.
func (l *Ledger) EndRun(ctx context.Context, id, outcome string) error {
	return l.endRun(ctx, id, `UPDATE runs SET ended = ?, outcome = ? WHERE id = ?`, now(), outcome, id)
}

// DropRun forgets a run that did nothing.
func (l *Ledger) DropRun(ctx context.Context, id string) error {
	return l.endRun(ctx, id, `DELETE FROM runs WHERE id = ?`, id)
}

func (l *Ledger) endRun(ctx context.Context, id, query string, args ...any) error {
	if a := l.active.Load(); a != nil {
		a.done()
	}
	err := l.write(ctx, func(tx transaction) error {
		if err := tx.Exec(query, args...); err != nil {
			return err
		}
		// What has come to its end is nothing that a later run continues with.
		if err := tx.Exec(`DELETE FROM orders WHERE run = ? AND run NOT IN (SELECT id FROM runs WHERE outcome <> 'done')`, id); err != nil {
			return err
		}
		return releaseRun(tx, id)
	})
	l.active.Store(nil)
	return err
}

// releaseRun gives back what a run has of machines and unused addresses.
func releaseRun(tx transaction, run string) error {
	if err := tx.Exec(`DELETE FROM claims WHERE run = ?`, run); err != nil {
		return err
	}
	return tx.Exec(`DELETE FROM reservations WHERE run = ?`, run)
}

// releaseClaim lets other runs have a machine that this one has finished with.
func releaseClaim(tx transaction, run string, key machine.Key) error {
	return tx.Exec(`DELETE FROM claims WHERE site = ? AND machine = ? AND run = ?`, key.Site, key.Name, run)
}

// checkClaim refuses a run that others have taken for dead.
func (l *Ledger) checkClaim(tx session) error {
	a := l.active.Load()
	if a == nil {
		return l.store.fence(tx)
	}
	return tx.Claimed(`SELECT 1 FROM runs WHERE id = ? AND outcome = ''`+l.store.locking, a.run)
}

// Busy says that another run is in the way.
type Busy struct {
	Holder  string        // who, in words
	Machine []machine.Key // on which of the machines that are asked for it works; none if it plans
	Asking  bool          // it waits for an answer to its question
}

// Error names the run that is in the way.
func (b *Busy) Error() string {
	if b.Asking {
		return b.does() + ", and waits for an answer to its question"
	}
	return b.does()
}

func (b *Busy) does() string {
	switch n := len(b.Machine); n {
	case 0:
		return b.Holder + " is using the ledger"
	case 1:
		return fmt.Sprintf("%s is working on %s", b.Holder, b.Machine[0].Name)
	default:
		return fmt.Sprintf("%s is working on %s and %d more of these machines", b.Holder, b.Machine[0].Name, n-1)
	}
}

// Lock keeps others from planning and changing anything until Admit or Close, or until
// the process ends in whatever way. who says for others who does so. When
// somebody else has the ledger, or a run works on a machine in the scope, it
// returns a *Busy. Runs that are dead are cut off.
func (l *Ledger) Lock(ctx context.Context, who string, scope func(machine.Key) bool) error {
	if l.reader {
		return l.explain(ErrReader)
	}
	ok, err := l.store.lock(ctx)
	if err != nil {
		return l.explain(err)
	}
	if !ok {
		return l.holder(ctx)
	}
	all, err := l.checkAll(ctx)
	if err == nil {
		err = l.busy(ctx, scope)
	}
	if err == nil {
		err = l.write(ctx, func(tx transaction) error {
			if err := tx.Exec(`DELETE FROM about WHERE name LIKE 'asking %' AND substr(name, 8) NOT IN (SELECT id FROM runs WHERE outcome = '')`); err != nil {
				return err
			}
			return recordHolder(tx, fmt.Sprintf("%s, since %s UTC,", who, utc(time.Now())))
		})
	}
	if err != nil {
		return errors.Join(err, l.store.release())
	}
	l.preloaded.Store(all)
	return nil
}

// recordHolder writes for others who has the ledger.
func recordHolder(tx transaction, who string) error {
	return tx.Exec(`INSERT INTO about (name, value) VALUES ('holder', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`, who)
}

func (l *Ledger) holder(ctx context.Context) error {
	busy := &Busy{Holder: "another run"}
	err := l.read(ctx, `SELECT value FROM about WHERE name = 'holder'`, func(row *sql.Rows) error { return row.Scan(&busy.Holder) })
	if err == nil {
		err = l.read(ctx, `SELECT EXISTS (SELECT 1 FROM about a JOIN runs r ON a.name = 'asking ' || r.id WHERE r.outcome = '')`, func(row *sql.Rows) error { return row.Scan(&busy.Asking) })
	}
	if err != nil {
		return err
	}
	return busy
}

// Asking says for others whether a run waits for an answer to its question.
func (l *Ledger) Asking(ctx context.Context, run string, asking bool) error {
	return l.write(ctx, func(tx transaction) error {
		query := `DELETE FROM about WHERE name = ?`
		if asking {
			query = `INSERT INTO about (name, value) VALUES (?, 'yes') ON CONFLICT (name) DO NOTHING`
		}
		return tx.Exec(query, "asking "+run)
	})
}

// Unlock ends Hold where several runs may work at once: the machines of this
// one are its own by now.
func (l *Ledger) Unlock() error {
	if !l.store.concurrent {
		return nil
	}
	return l.store.release()
}

// busy looks for a run that works on a machine in the scope; nil if none does.
func (l *Ledger) busy(ctx context.Context, scope func(machine.Key) bool) error {
	type other struct {
		Run
		silent int64 // in ms
	}
	var all []*other
	err := l.read(ctx, `SELECT id, command, user_name, host_name, started, `+l.store.clock+` - beat FROM runs WHERE ended = '' AND outcome = '' ORDER BY started`, func(row *sql.Rows) error {
		var o other
		var started string
		err := row.Scan(&o.ID, &o.Command, &o.User, &o.Host, &started, &o.silent)
		o.Started = parseTime(started)
		all = append(all, &o)
		return err
	})
	if err != nil {
		return err
	}
	for _, o := range all {
		if !l.store.concurrent || o.silent > l.timeout.Milliseconds() || processEnded(o.ID) {
			if err := l.endLostRun(ctx, o.ID); err != nil {
				return err
			}
			continue
		}
		busy := &Busy{Holder: o.String()}
		if err := l.read(ctx, `SELECT EXISTS (SELECT 1 FROM about WHERE name = 'asking ' || ?)`, func(row *sql.Rows) error { return row.Scan(&busy.Asking) }, o.ID); err != nil {
			return err
		}
		err := l.read(ctx, `SELECT site, machine FROM claims WHERE run = ? ORDER BY site, machine`, func(row *sql.Rows) error {
			var key machine.Key
			err := row.Scan(&key.Site, &key.Name)
			if scope(key) {
				busy.Machine = append(busy.Machine, key)
			}
			return err
		}, o.ID)
		if err != nil {
			return err
		}
		if len(busy.Machine) > 0 {
			return busy
		}
	}
	return nil
}

// processEnded reports that the process of a run on this computer has ended: nobody holds
// its file any more.
func processEnded(run string) bool {
	if _, err := os.Stat(heartbeatFile(run)); err != nil {
		return false // it may run on another computer
	}
	f := flock.New(heartbeatFile(run))
	ok, err := f.TryLock()
	if err != nil || !ok {
		return false
	}
	_ = os.Remove(f.Path())
	return f.Unlock() == nil
}

// endLostRun lets a dead run write nothing more, and gives back what it had. One that
// has told meanwhile that it lives goes on.
func (l *Ledger) endLostRun(ctx context.Context, run string) error {
	return l.write(ctx, func(tx transaction) error {
		switch err := tx.QueryRow(`SELECT id FROM runs WHERE id = ?`+l.store.ending, run).Scan(new(string)); {
		case errors.Is(err, sql.ErrNoRows):
			return nil // it did nothing, and has said so since
		case err != nil:
			return err
		}
		if err := tx.Exec(`UPDATE runs SET outcome = ? WHERE id = ? AND outcome = ''`, LostClaim, run); err != nil {
			return err
		}
		return releaseRun(tx, run)
	})
}

// LostClaim is the outcome of a run that has no end.
const LostClaim = "killed, or lost its claim"
