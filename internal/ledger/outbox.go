package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/notice"
)

// Outgoing is an event that a receiver is to be told of.
type Outgoing struct {
	ID     string // the same each time that it is sent
	Notice string // the setup's name of what is to be sent
	At     time.Time
	Data   notice.Event
	// Tries is how often it was sent in vain, Tried when last, and Error why that failed.
	Tries int
	Tried time.Time
	Error string
}

// Key is the machine that it is about; empty for a run.
func (o Outgoing) Key() machine.Key {
	if o.Data.Machine == nil {
		return machine.Key{}
	}
	return machine.Key{Site: o.Data.Machine.Site, Name: o.Data.Machine.Name}
}

// PutOutbox keeps what others are to be told.
func (l *Ledger) PutOutbox(ctx context.Context, all []Outgoing) error {
	if len(all) == 0 {
		return nil
	}
	return l.write(ctx, func(tx transaction) error { return putOutbox(tx, all) })
}

// outboxTime is of one width, so that texts are in the order of their times.
const outboxTime = "2006-01-02T15:04:05.000000000Z"

func putOutbox(tx transaction, all []Outgoing) error {
	for _, o := range all {
		key := o.Key()
		taken, err := takenOf(tx, key)
		if err != nil {
			return err
		}
		o.Data.Taken = taken
		if err := tx.Exec(`INSERT INTO outbox (id, notice, event, site, machine, run, at, data, tries, tried, error) VALUES (?, ?, ?, ?, ?, ?, ?, ?, 0, '', '') ON CONFLICT (id) DO NOTHING`,
			tx.id(uuid.NewRandom), o.Notice, string(o.Data.Kind), key.Site, key.Name, o.Data.Run.ID, time.Now().UTC().Format(outboxTime), encode(o.Data)); err != nil {
			return err
		}
	}
	return nil
}

const outboxColumns = `SELECT id, notice, at, data, tries, tried, error FROM outbox`

// Outbox reads what is waiting to be sent, the oldest first.
func (l *Ledger) Outbox(ctx context.Context) ([]Outgoing, error) {
	var all []Outgoing
	if err := l.checkRows(ctx, "outbox", ""); err != nil {
		return nil, err
	}
	err := l.read(ctx, outboxColumns+` ORDER BY at, id`, func(row *sql.Rows) error {
		o, err := scanOutgoing(row)
		all = append(all, o)
		return err
	})
	return all, err
}

func scanOutgoing(row *sql.Rows) (o Outgoing, err error) {
	var at, tried, data string
	if err := row.Scan(&o.ID, &o.Notice, &at, &data, &o.Tries, &tried, &o.Error); err != nil {
		return o, err
	}
	o.At, o.Tried = parseTime(at), parseTime(tried)
	if err := json.Unmarshal([]byte(data), &o.Data); err != nil {
		return o, damaged(fmt.Sprintf("notice %s: %s", o.ID, err))
	}
	return o, nil
}

// Sent writes that a receiver was told, and what was taken from its answer: it is kept with the machine, and in what is waiting
// to be told of it, up to its end.
func (l *Ledger) Sent(ctx context.Context, o Outgoing, taken map[string]string) error {
	return l.write(ctx, func(tx transaction) error {
		if len(taken) > 0 {
			if err := keepTaken(tx, o, taken); err != nil {
				return err
			}
		}
		return leave(tx, o, "told "+o.Notice, string(o.Data.Kind))
	})
}

func keepTaken(tx transaction, o Outgoing, taken map[string]string) error {
	key := o.Key()
	later, err := laterThan(tx, o)
	if err != nil {
		return err
	}
	same, ended := o.Learn(later, taken)
	for _, w := range same {
		if err := tx.Exec(`UPDATE outbox SET data = ? WHERE id = ?`, encode(w.Data), w.ID); err != nil {
			return err
		}
	}
	if ended {
		return nil
	}
	for name, value := range taken {
		if err := tx.Exec(`INSERT INTO taken (site, machine, name, value) VALUES (?, ?, ?, ?)
			ON CONFLICT (site, machine, name) DO UPDATE SET value = excluded.value`, key.Site, key.Name, name, value); err != nil {
			return err
		}
	}
	return nil
}

// Learn adds what was taken from the answer to a notice to those of the later ones that are about the same machine, and returns
// these: the first, up to its end, after which there may be another machine of that name. It reports whether they have come to that.
func (o Outgoing) Learn(later []Outgoing, taken map[string]string) (same []Outgoing, ended bool) {
	ended = o.Data.Kind == notice.Retired
	n := 0
	for ; n < len(later) && !ended; n++ {
		all := maps.Clone(later[n].Data.Taken)
		if all == nil {
			all = map[string]string{}
		}
		maps.Copy(all, taken)
		later[n].Data.Taken, ended = all, later[n].Data.Kind == notice.Retired
	}
	return later[:n], ended
}

// laterThan lists what else is waiting about a machine, behind a notice.
func laterThan(tx transaction, o Outgoing) (all []Outgoing, err error) {
	rows, err := tx.Query(outboxColumns+` WHERE site = ? AND machine = ? AND at > ? AND id <> ? ORDER BY at, id`, o.Key().Site, o.Key().Name, o.At.UTC().Format(outboxTime), o.ID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		w, err := scanOutgoing(rows)
		if err != nil {
			return nil, err
		}
		all = append(all, w)
	}
	return all, rows.Err()
}

// DropOutgoing writes that a receiver is not to be told.
func (l *Ledger) DropOutgoing(ctx context.Context, o Outgoing) error {
	return l.write(ctx, func(tx transaction) error {
		return leave(tx, o, "not told "+o.Notice, string(o.Data.Kind)+", dropped")
	})
}

// NothingToTell writes that a receiver is not told, since the machine has no value of a name that it would be told of.
func (l *Ledger) NothingToTell(ctx context.Context, o Outgoing, name string) error {
	return l.write(ctx, func(tx transaction) error {
		return leave(tx, o, "not told "+o.Notice, string(o.Data.Kind)+", without "+name)
	})
}

// leave takes a notice out of the outbox, once.
func leave(tx transaction, o Outgoing, what, detail string) error {
	var n int
	if err := tx.QueryRow(`SELECT count(*) FROM outbox WHERE id = ?`, o.ID).Scan(&n); err != nil || n == 0 {
		return err
	}
	if err := tx.Exec(`DELETE FROM outbox WHERE id = ?`, o.ID); err != nil {
		return err
	}
	return note(tx, Event{Run: o.Data.Run.ID, Key: o.Key(), What: what, Detail: detail})
}

// NotSent writes why a receiver could not be told.
func (l *Ledger) NotSent(ctx context.Context, o Outgoing, why error) error {
	return l.write(ctx, func(tx transaction) error {
		return tx.Exec(`UPDATE outbox SET tries = tries + 1, tried = ?, error = ? WHERE id = ?`, now(), why.Error(), o.ID)
	})
}

// Taken reads what was taken from the answers of receivers, of machines of some names; no name means all.
func (l *Ledger) Taken(ctx context.Context, names ...string) (map[machine.Key]map[string]string, error) {
	all := map[machine.Key]map[string]string{}
	which := named(names)
	if err := l.checkRows(ctx, "taken", which.condition, which.args...); err != nil {
		return nil, err
	}
	err := l.read(ctx, `SELECT site, machine, name, value FROM taken WHERE `+which.condition, func(row *sql.Rows) error {
		var key machine.Key
		var name, value string
		if err := row.Scan(&key.Site, &key.Name, &name, &value); err != nil {
			return err
		}
		if all[key] == nil {
			all[key] = map[string]string{}
		}
		all[key][name] = value
		return nil
	}, which.args...)
	return all, err
}

// takenOf is what was taken about one machine.
func takenOf(tx transaction, key machine.Key) (map[string]string, error) {
	rows, err := tx.Query(`SELECT name, value FROM taken WHERE site = ? AND machine = ?`, key.Site, key.Name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var taken map[string]string
	for rows.Next() {
		var name, value string
		if err := rows.Scan(&name, &value); err != nil {
			return nil, err
		}
		if taken == nil {
			taken = map[string]string{}
		}
		taken[name] = value
	}
	return taken, rows.Err()
}

// WasMade reports, by the history, whether a machine was made before and has not been retired since.
func (l *Ledger) WasMade(ctx context.Context, key machine.Key) (bool, error) {
	made := false
	err := l.read(ctx, `SELECT what, detail FROM history WHERE site = ? AND machine = ? AND what IN ('made', 'retired', 'renamed', 'restored') ORDER BY id DESC LIMIT 1`, func(row *sql.Rows) error {
		var what, detail string
		err := row.Scan(&what, &detail)
		made = what != "retired" && !strings.HasPrefix(detail, "to ")
		return err
	}, key.Site, key.Name)
	return made, err
}
