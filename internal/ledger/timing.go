package ledger

import (
	"context"
	"database/sql"
	"strings"
	"time"

	"mintbatch/internal/core/machine"
)

// Timing is how long the steps took by which something was done to a machine.
type Timing struct {
	machine.Key
	Steps map[string]time.Duration
}

// Timings reports how long the steps took of what was done to machines last, at most so
// many times.
func (l *Ledger) Timings(ctx context.Context, most int) ([]Timing, error) {
	var all []Timing
	err := l.read(ctx, `SELECT site, machine, steps FROM timings ORDER BY at DESC LIMIT ?`, func(row *sql.Rows) error {
		t := Timing{Steps: map[string]time.Duration{}}
		var steps string
		err := row.Scan(&t.Site, &t.Name, &steps)
		words := strings.Fields(steps)
		for ; len(words) >= 3; words = words[3:] {
			t.Steps[words[0]] = parseTime(words[2]).Sub(parseTime(words[1]))
		}
		all = append(all, t)
		return err
	}, most)
	return all, err
}

// keepTimings writes how long what is in a machine's journal took.
func keepTimings(tx transaction, key machine.Key, what string) error {
	return tx.Exec(`INSERT INTO timings (site, machine, what, at, steps)
			SELECT site, machine, ?, MAX(ended), string_agg(step || ' ' || began || ' ' || ended, ' ') FROM steps
			WHERE site = ? AND machine = ? AND state = 'done' AND step <> 'stop' AND ended <> '' AND generation = `+current+` GROUP BY site, machine
		ON CONFLICT (site, machine, what) DO UPDATE SET at = excluded.at, steps = excluded.steps`, what, key.Site, key.Name, key.Site, key.Name)
}
