package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
)

// Machine is what the ledger holds of a machine.
type Machine struct {
	proof.Known
	HostKey string // the public one
	Run     string // the last one that changed it
	Changed time.Time
	Error   string // of the step that failed last, while it has not been done
}

// Machines returns all machines, by site and name.
func (l *Ledger) Machines(ctx context.Context) ([]Machine, error) {
	if all := l.preloaded.Swap(nil); all != nil {
		return *all, nil
	}
	return l.machines(ctx, everything)
}

// eachTime is how many machines are handed over at a time.
var eachTime = 4096

// EachMachine hands all machines to take, by site and name, some at a time, so that they are never all in memory. While take is at work
// nothing of the ledger is being read: what is changed meanwhile may be handed over as it was or as it is.
func (l *Ledger) EachMachine(ctx context.Context, take func([]Machine) error) error {
	for after, more := (machine.Key{}), true; more; {
		last := after
		more = false
		err := l.read(ctx, `SELECT site, name FROM machines WHERE (site, name) > (?, ?) ORDER BY site, name LIMIT 1 OFFSET ?`, func(row *sql.Rows) error {
			more = true
			return row.Scan(&last.Site, &last.Name)
		}, after.Site, after.Name, eachTime-1)
		if err != nil {
			return err
		}
		some, err := l.machines(ctx, func(site, name string) selection {
			which := selection{"(" + site + ", " + name + ") > (?, ?)", []any{after.Site, after.Name}}
			if more {
				which = which.and(selection{"(" + site + ", " + name + ") <= (?, ?)", []any{last.Site, last.Name}})
			}
			return which
		})
		if err != nil {
			return err
		}
		if err := take(some); err != nil {
			return err
		}
		after = last
	}
	return nil
}

// MachinesNamed returns the machines that have one of some names, by site and name.
func (l *Ledger) MachinesNamed(ctx context.Context, names []string) ([]Machine, error) {
	var sites []string
	which := in("name", names)
	err := l.read(ctx, `SELECT DISTINCT site FROM machines WHERE `+which.condition, func(row *sql.Rows) error {
		var site string
		err := row.Scan(&site)
		sites = append(sites, site)
		return err
	}, which.args...)
	if err != nil || len(sites) == 0 {
		return nil, err
	}
	return l.machines(ctx, func(site, name string) selection { return in(site, sites).and(in(name, names)) })
}

// selection is a condition and its values.
type selection struct {
	condition string
	args      []any
}

func everything(string, string) selection { return selection{condition: "TRUE"} }

// in selects what has one of some values in a column.
func in(column string, values []string) selection {
	args := make([]any, len(values))
	for i, v := range values {
		args[i] = v
	}
	return selection{column + " IN (?" + strings.Repeat(", ?", len(values)-1) + ")", args}
}

// named selects the rows of machines of some names; no name means all.
func named(names []string) selection {
	if len(names) == 0 {
		return everything("", "")
	}
	return in("machine", names)
}

func (s selection) and(o selection) selection {
	return selection{s.condition + " AND " + o.condition, append(slices.Clone(s.args), o.args...)}
}

// machines reads those that which selects, by the columns of their site and name. Their rows
// are verified meanwhile.
func (l *Ledger) machines(ctx context.Context, which func(site, name string) selection) ([]Machine, error) {
	return verified(func() error {
		own, ofSteps := which("site", "name"), which("site", "machine")
		if err := l.checkRows(ctx, "machines", own.condition, own.args...); err != nil {
			return err
		}
		return l.checkRows(ctx, "steps", ofSteps.condition, ofSteps.args...)
	}, func() ([]Machine, error) { return l.unverified(ctx, which) })
}

// verified reads something while a check of it is going on; what that finds is what is
// told.
func verified[T any](check func() error, read func() (T, error)) (T, error) {
	var checks errgroup.Group
	checks.Go(check)
	all, err := read()
	if damage := checks.Wait(); damage != nil {
		var nothing T
		return nothing, damage
	}
	return all, err
}

// unverified is machines for a caller that has their rows verified.
func (l *Ledger) unverified(ctx context.Context, which func(site, name string) selection) ([]Machine, error) {
	ofSteps, ofMachines := which("site", "machine"), which("m.site", "m.name")
	all, err := room[Machine](ctx, l, "machines", which("site", "name"))
	if err != nil {
		return nil, err
	}
	open, err := l.openSteps(ctx, which("s.site", "s.machine"))
	if err != nil {
		return nil, err
	}
	origins, err := l.origins(ctx, ofSteps)
	if err != nil {
		return nil, err
	}
	specs := decoder{into: func(i int) *proof.Known { return &all[i].Known }}
	err = l.read(ctx, `SELECT m.site, m.name, m.generation, m.state, m.spec, m.host, m.store, m.host_key, m.run, m.changed, m.earlier,
			m.state = 'making' AND EXISTS (SELECT 1 FROM steps s WHERE s.site = m.site AND s.machine = m.name AND s.generation = m.generation AND s.step = 'clone' AND s.state = 'done'),
			m.state = 'making' AND EXISTS (SELECT 1 FROM steps s WHERE s.site = m.site AND s.machine = m.name AND s.generation = m.generation AND s.step = 'start'),
			EXISTS (SELECT 1 FROM kept k WHERE k.site = m.site AND k.machine = m.name AND k.generation = m.generation)
		FROM machines m WHERE `+ofMachines.condition+` ORDER BY m.site, m.name`, func(row *sql.Rows) error {
		if len(all) == cap(all) {
			specs.wait() // they are about to move
		}
		all = append(all, Machine{})
		m := &all[len(all)-1]
		var spec, changed, earlier string
		if err := row.Scan(&m.Site, &m.Name, &m.Generation, &m.State, &spec, &m.Host, &m.Store, &m.HostKey, &m.Run, &changed, &earlier, &m.Cloned, &m.Started, &m.KeepsDisks); err != nil {
			return err
		}
		m.Site, m.State, m.Host, m.Store, m.Run = shared(m.Site), shared(m.State), shared(m.Host), shared(m.Store), shared(m.Run)
		m.Changed, m.Origin = parseTime(changed), origins[m.Key]
		for _, s := range open[m.Key] {
			if s.generation != m.Generation {
				continue
			}
			if m.Open = append(m.Open, s.OpenStep); s.error != "" {
				m.Error = s.Step + ": " + s.error
			}
		}
		specs.add(spec, earlier)
		return nil
	}, ofMachines.args...)
	if failed := specs.end(); err == nil && failed != nil {
		err = l.explain(damaged(failed))
	}
	return all, err
}

// openStep is a step without a good end, of a generation.
type openStep struct {
	proof.OpenStep
	generation int
	error      string
}

// openSteps finds the steps that have no good end, stops, and steps of runs that did
// not live to finish their machine.
func (l *Ledger) openSteps(ctx context.Context, ofSteps selection) (map[machine.Key][]openStep, error) {
	all := map[machine.Key][]openStep{}
	err := l.read(ctx, `SELECT s.site, s.machine, s.generation, s.step, s.state, s.error, s.run, COALESCE(r.command, 'unknown')
		FROM steps s JOIN machines m ON m.site = s.site AND m.name = s.machine LEFT JOIN runs r ON r.id = s.run
		WHERE (s.state <> 'done' OR s.step = 'stop' OR m.state = 'made' AND s.generation = m.generation AND s.run <> m.run) AND `+ofSteps.condition+`
		ORDER BY s.began`, func(row *sql.Rows) error {
		var key machine.Key
		var s openStep
		var state StepState
		err := row.Scan(&key.Site, &key.Name, &s.generation, &s.Step, &state, &s.error, &s.Run, &s.Command)
		s.Failed = state == Failed
		all[key] = append(all[key], s)
		return err
	}, ofSteps.args...)
	return all, err
}

// HostKey returns the public host key that a machine was given; empty if none.
func (l *Ledger) HostKey(ctx context.Context, key machine.Key) (string, error) {
	hostKey := ""
	if err := l.checkRows(ctx, "machines", "site = ? AND name = ?", key.Site, key.Name); err != nil {
		return "", err
	}
	err := l.read(ctx, `SELECT host_key FROM machines WHERE site = ? AND name = ?`, func(row *sql.Rows) error {
		return row.Scan(&hostKey)
	}, key.Site, key.Name)
	return hostKey, err
}

// read runs a query and hands each row to take.
func (l *Ledger) read(ctx context.Context, query string, take func(*sql.Rows) error, args ...any) error {
	taken := false // what was handed over is not handed over again
	err := l.retryWhileDown(func() (bool, error) {
		rows, err := l.db.QueryContext(ctx, l.store.query(query), args...)
		if err != nil {
			return ctx.Err() == nil, err
		}
		defer rows.Close()
		for rows.Next() {
			taken = true
			if err := take(rows); err != nil {
				return false, err
			}
		}
		return !taken, rows.Err()
	})
	if err != nil {
		return l.explain(err)
	}
	return nil
}

// Begin writes that a machine of this generation is being made to a spec, what of it bears
// other names than its own, and what is reserved for it. It is the first thing that happens to
// a machine. What was made or started of an earlier generation is remembered until it is gone.
func (l *Ledger) Begin(ctx context.Context, run string, m machine.Machine, generation int, origin machine.Origin, reserved []Reservation) error {
	return l.write(ctx, func(tx transaction) error {
		earlier, err := earlierOf(tx, m.Key, generation)
		if err != nil {
			return err
		}
		if earlier == "" {
			err = reserve(tx, m.Key, reserved)
		} else { // that clone has its addresses for as long as it is there
			err = reserveMore(tx, m.Key, reserved)
		}
		if err != nil {
			return err
		}
		err = tx.Exec(`INSERT INTO machines (site, name, generation, state, spec, run, changed, earlier) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (site, name) DO UPDATE SET generation = excluded.generation, state = excluded.state,
				spec = excluded.spec, run = excluded.run, changed = excluded.changed, earlier = excluded.earlier`,
			m.Site, m.Name, generation, proof.Making, encode(m.Spec), run, now(), earlier)
		if err != nil {
			return err
		}
		if err := setOrigin(tx, m.Key, origin); err != nil {
			return err
		}
		return note(tx, Event{Run: run, Key: m.Key, What: "begun", Detail: fmt.Sprintf("generation %d", generation)})
	})
}

// Finish writes that a machine is as its spec says, and in the history what was done to it.
// Nothing of its journal is open from then on, and nothing is left of an earlier clone. Others are to be told.
func (l *Ledger) Finish(ctx context.Context, run string, m machine.Machine, what, detail string, tell ...Outgoing) error {
	return l.write(ctx, func(tx transaction) error {
		err := tx.Exec(`UPDATE machines SET state = ?, spec = ?, run = ?, changed = ?, earlier = '' WHERE site = ? AND name = ?`,
			proof.Made, encode(m.Spec), run, now(), m.Site, m.Name)
		if err != nil {
			return err
		}
		if err := closeJournal(tx, m.Key, what); err != nil {
			return err
		}
		if err := tx.Exec(`DELETE FROM calls WHERE site = ? AND machine = ?`, m.Site, m.Name); err != nil {
			return err
		}
		if err := releaseOthers(tx, m.Key, m.Spec); err != nil {
			return err
		}
		if err := releaseClaim(tx, run, m.Key); err != nil {
			return err
		}
		if err := putOutbox(tx, tell); err != nil {
			return err
		}
		return note(tx, Event{Run: run, Key: m.Key, What: what, Detail: detail})
	})
}

// CloseOwn writes in the history what a run has done to a machine, and closes its own steps. What
// others have left open stays so.
func (l *Ledger) CloseOwn(ctx context.Context, run string, key machine.Key, what, detail string) error {
	return l.write(ctx, func(tx transaction) error {
		if err := tx.Exec(`DELETE FROM steps WHERE site = ? AND machine = ? AND run = ?`, key.Site, key.Name, run); err != nil {
			return err
		}
		if err := releaseClaim(tx, run, key); err != nil {
			return err
		}
		return note(tx, Event{Run: run, Key: key, What: what, Detail: detail})
	})
}

// Forget takes a machine out of the ledger, with its sealed values and its
// journal. Its addresses rest for as long as is said for their networks. The
// history names the disks that stay, if they do. Others are to be told.
func (l *Ledger) Forget(ctx context.Context, run string, key machine.Key, cooling map[string]time.Time, disks contract.Disks, tell ...Outgoing) error {
	return l.write(ctx, func(tx transaction) error {
		if err := coolDown(tx, key, cooling); err != nil {
			return err
		}
		if err := releaseClaim(tx, run, key); err != nil {
			return err
		}
		var generation int
		if err := tx.QueryRow(`SELECT COALESCE(MAX(generation), 0) FROM machines WHERE site = ? AND name = ?`, key.Site, key.Name).Scan(&generation); err != nil {
			return err
		}
		if err := spend(tx, key, generation); err != nil {
			return err
		}
		kept, err := keptOf(tx, key, disks)
		if err != nil {
			return err
		}
		if err := note(tx, Event{Run: run, Key: key, What: "retired", Detail: kept}); err != nil {
			return err
		}
		if err := putOutbox(tx, tell); err != nil {
			return err
		}
		for _, table := range append([]string{"origins"}, ofMachine...) {
			if err := tx.Exec(`DELETE FROM `+table+` WHERE site = ? AND machine = ?`, key.Site, key.Name); err != nil {
				return err
			}
		}
		return tx.Exec(`DELETE FROM machines WHERE site = ? AND name = ?`, key.Site, key.Name)
	})
}

// SetPlace writes where a site put a machine.
func (l *Ledger) SetPlace(ctx context.Context, key machine.Key, host, store string) error {
	return l.write(ctx, func(tx transaction) error {
		return tx.Exec(`UPDATE machines SET host = ?, store = ? WHERE site = ? AND name = ?`, host, store, key.Site, key.Name)
	})
}

func encode(v any) string {
	b, err := json.Marshal(v)
	if err != nil { // only values of our own types, which marshal
		panic(err)
	}
	return string(b)
}

func now() string { return time.Now().UTC().Format(time.RFC3339Nano) }

func parseTime(s string) time.Time {
	if s == "" {
		return time.Time{}
	}
	t, _ := time.Parse(time.RFC3339Nano, s)
	return t
}
