package ledger

import (
	"context"
	"database/sql"
	"encoding/json"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

// ExpectCall writes that a guest of a machine will call with a token, of which the digest is
// kept. What another seed of the machine was given counts no more.
func (l *Ledger) ExpectCall(ctx context.Context, key machine.Key, generation int, digest string) error {
	return l.write(ctx, func(tx transaction) error {
		return tx.Exec(`INSERT INTO calls (site, machine, generation, token, report) VALUES (?, ?, ?, ?, '')
			ON CONFLICT (site, machine) DO UPDATE SET generation = excluded.generation, token = excluded.token, report = ''`, key.Site, key.Name, generation, digest)
	})
}

// NoteStage writes in the history how a stage of a guest went.
func (l *Ledger) NoteStage(ctx context.Context, run string, key machine.Key, detail string) error {
	return l.write(ctx, func(tx transaction) error { return note(tx, Event{Run: run, Key: key, What: "stage", Detail: detail}) })
}

// TakeCall keeps what a guest reports. The first report with a token counts. It returns false
// if no guest is waited for that has the token.
func (l *Ledger) TakeCall(ctx context.Context, digest string, report *contract.Report) (known bool, err error) {
	err = l.write(ctx, func(tx transaction) error {
		known = false
		if err := tx.QueryRow(`SELECT EXISTS (SELECT 1 FROM calls WHERE token = ?)`, digest).Scan(&known); err != nil || !known {
			return err
		}
		return tx.Exec(`UPDATE calls SET report = ? WHERE token = ? AND report = ''`, encode(report), digest)
	})
	return known, err
}

// Called returns what the guest of a machine's generation has reported; nil if it has not
// called yet.
func (l *Ledger) Called(ctx context.Context, key machine.Key, generation int) (report *contract.Report, err error) {
	if err := l.checkRows(ctx, "calls", "site = ? AND machine = ?", key.Site, key.Name); err != nil {
		return nil, err
	}
	text := ""
	err = l.read(ctx, `SELECT report FROM calls WHERE site = ? AND machine = ? AND generation = ?`, func(row *sql.Rows) error { return row.Scan(&text) }, key.Site, key.Name, generation)
	if err != nil || text == "" {
		return nil, err
	}
	if err := json.Unmarshal([]byte(text), &report); err != nil {
		return nil, l.explain(damaged(key.String() + ": " + err.Error()))
	}
	return report, nil
}
