package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"mintbatch/internal/core/inspect"
)

// TemplateKey is a template at a site, as the site knows it.
type TemplateKey struct{ Site, Template string }

// KeepInspection keeps what was found on the disk of a template, in place of what was found
// before.
func (l *Ledger) KeepInspection(ctx context.Context, of TemplateKey, s inspect.Summary) error {
	return l.write(ctx, func(tx transaction) error {
		return tx.Exec(`INSERT INTO inspections (site, template, summary) VALUES (?, ?, ?)
			ON CONFLICT (site, template) DO UPDATE SET summary = excluded.summary`, of.Site, of.Template, encode(s))
	})
}

// Inspections reads what was found on the disks of all templates.
func (l *Ledger) Inspections(ctx context.Context) (map[TemplateKey]inspect.Summary, error) {
	all := map[TemplateKey]inspect.Summary{}
	if err := l.checkRows(ctx, "inspections", "1 = 1"); err != nil {
		return nil, err
	}
	err := l.read(ctx, `SELECT site, template, summary FROM inspections`, func(row *sql.Rows) error {
		var of TemplateKey
		var text string
		if err := row.Scan(&of.Site, &of.Template, &text); err != nil {
			return err
		}
		var s inspect.Summary
		if err := json.Unmarshal([]byte(text), &s); err != nil {
			return damaged(fmt.Sprintf("the inspection of %s at site %s: %s", of.Template, of.Site, err))
		}
		all[of] = s
		return nil
	})
	return all, err
}
