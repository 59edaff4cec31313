package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/step"
)

// earlierOf is what is to be remembered of a machine's clone when a generation
// begins: the one that was made or started, if it was of an earlier one.
func earlierOf(tx transaction, key machine.Key, generation int) (string, error) {
	var before proof.Earlier
	var state proof.State
	var spec, remembered string
	var started bool
	err := tx.QueryRow(`SELECT m.generation, m.state, m.spec, m.host, m.store, m.earlier,
			EXISTS (SELECT 1 FROM steps s WHERE s.site = m.site AND s.machine = m.name AND s.generation = m.generation AND s.step = 'start')
		FROM machines m WHERE m.site = ? AND m.name = ?`, key.Site, key.Name).Scan(&before.Generation, &state, &spec, &before.Host, &before.Store, &remembered, &started)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return "", nil
	case err != nil:
		return "", err
	case before.Generation == generation || state != proof.Made && !started:
		return remembered, nil
	}
	before.Unfinished = state != proof.Made
	if before.Origin, err = originOf(tx, key); err != nil {
		return "", err
	}
	if err := json.Unmarshal([]byte(spec), &before.Spec); err != nil {
		return "", damaged(fmt.Sprintf("%s: %s", key, err))
	}
	return encode(before), nil
}

// Removal is how far it is with a clone that another one replaces.
type Removal string

// The states of a Removal.
const (
	RemovalAsked   Removal = "asked"   // the site is about to be asked
	RemovalRefused Removal = "refused" // it will not, and has done nothing
	RemovalDone    Removal = "done"
)

// Replacing writes how far it is with the clone that a machine's present
// generation replaces.
func (l *Ledger) Replacing(ctx context.Context, key machine.Key, how Removal) error {
	return l.write(ctx, func(tx transaction) error {
		earlier, err := readEarlier(tx, key)
		if err != nil || earlier == nil {
			return err
		}
		text := ""
		if earlier.Removal = how == RemovalAsked; how != RemovalDone {
			text = encode(earlier)
		}
		if err = tx.Exec(`UPDATE machines SET earlier = ? WHERE site = ? AND name = ?`, text, key.Site, key.Name); err != nil || how != RemovalDone {
			return err
		}
		var spec machine.Spec
		if err := tx.QueryRow(`SELECT spec FROM machines WHERE site = ? AND name = ?`, key.Site, key.Name).Scan(&text); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(text), &spec); err != nil {
			return damaged(fmt.Sprintf("%s: %s", key, err))
		}
		return releaseOthers(tx, key, spec)
	})
}

func readEarlier(tx transaction, key machine.Key) (*proof.Earlier, error) {
	var text string
	err := tx.QueryRow(`SELECT earlier FROM machines WHERE site = ? AND name = ?`, key.Site, key.Name).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) || err == nil && text == "" {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var earlier proof.Earlier
	if err := json.Unmarshal([]byte(text), &earlier); err != nil {
		return nil, damaged(fmt.Sprintf("%s: %s", key, err))
	}
	return &earlier, nil
}

// Revert gives up a remake that has not replaced its clone: the machine is that
// clone again, with what is reserved for it. It is finished by the run, or by the next one.
func (l *Ledger) Revert(ctx context.Context, run string, key machine.Key, reserved []Reservation) error {
	return l.write(ctx, func(tx transaction) error {
		earlier, err := readEarlier(tx, key)
		if err != nil || earlier == nil {
			return err // it has gone back already
		}
		if err := errors.Join(reserve(tx, key, reserved), setOrigin(tx, key, earlier.Origin)); err != nil {
			return err
		}
		if err := tx.Exec(`DELETE FROM steps WHERE site = ? AND machine = ? AND generation > ?`, key.Site, key.Name, earlier.Generation); err != nil {
			return err
		}
		err = tx.Exec(`UPDATE machines SET generation = ?, state = ?, spec = ?, host = ?, store = ?, changed = ?, earlier = '' WHERE site = ? AND name = ?`,
			earlier.Generation, proof.Made, encode(earlier.Spec), earlier.Host, earlier.Store, now(), key.Site, key.Name)
		if err != nil {
			return err
		}
		// It may have been shut down: until the run finishes it, its steps are open.
		if err := begin(tx, Step{Key: key, Generation: earlier.Generation, Step: string(step.Reserve), Run: run}); err != nil {
			return err
		}
		return note(tx, Event{Run: run, Key: key, What: "remake abandoned", Detail: fmt.Sprintf("generation %d kept", earlier.Generation)})
	})
}

// current is the generation of a machine, by site and name.
const current = `(SELECT generation FROM machines WHERE site = ? AND name = ?)`

// closeJournal ends what is open of a machine that is made: steps of earlier
// generations, steps that something else has made good, a stop after which it was
// started, and disks that were to be kept by a retire which did not take place.
// Of what was done, only how long it took is kept: a later run continues with none of it.
func closeJournal(tx transaction, key machine.Key, what string) error {
	if err := keepTimings(tx, key, what); err != nil {
		return err
	}
	if err := tx.Exec(`DELETE FROM steps WHERE site = ? AND machine = ? AND (generation < `+current+` OR step <> 'stop'
			OR EXISTS (SELECT 1 FROM steps s WHERE s.site = steps.site AND s.machine = steps.machine AND s.step = 'start' AND s.state = 'done' AND s.began > steps.began))`,
		key.Site, key.Name, key.Site, key.Name); err != nil {
		return err
	}
	return tx.Exec(`DELETE FROM kept WHERE site = ? AND machine = ? AND generation = `+current, key.Site, key.Name, key.Site, key.Name)
}

// Finished tells, of the last run of a command that worked on some machines, was
// interrupted or had failures, and has left some of them unfinished, which it has
// finished. What others have worked on since counts as neither.
func (l *Ledger) Finished(ctx context.Context, command string, keys []machine.Key) (map[machine.Key]string, error) {
	wanted, works := map[machine.Key]bool{}, map[machine.Key]bool{}
	for _, key := range keys {
		wanted[key] = true
	}
	run, started := "", ""
	err := l.read(ctx, `SELECT r.id, r.started, o.site, o.machine FROM runs r JOIN orders o ON o.run = r.id WHERE r.command = ? AND r.outcome <> 'done'
		ORDER BY r.started DESC, r.id`, func(row *sql.Rows) error {
		var key machine.Key
		var id, at string
		if err := row.Scan(&id, &at, &key.Site, &key.Name); err != nil {
			return err
		}
		if run == "" && wanted[key] {
			run, started = id, at
		}
		works[key] = works[key] || id == run && wanted[key]
		return nil
	}, command)
	if err != nil || run == "" {
		return nil, err
	}
	known, err := l.Machines(ctx)
	if err != nil {
		return nil, err
	}
	done, open := map[machine.Key]string{}, false
	for _, k := range known {
		switch {
		case !works[k.Key]:
		case k.State == proof.Made && k.Run == run:
			done[k.Key] = run
		case k.State == proof.Making || k.Changed.Before(parseTime(started)):
			open = true
		}
	}
	if !open {
		return nil, nil
	}
	return done, nil
}
