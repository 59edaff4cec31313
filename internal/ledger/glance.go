package ledger

import (
	"context"
	"database/sql"
	"errors"
	"path/filepath"
	"time"
)

// Glance are names in a ledger, for whoever only wants to be helped in writing them.
type Glance struct {
	Machines []string // in no order
	Runs     []string // the newest first
}

// glanceLimit is how long a glance may take.
const glanceLimit = 500 * time.Millisecond

// Look reads names without opening a ledger: nothing is checked, created or waited for.
func Look(ctx context.Context, name string) (Glance, error) {
	ctx, cancel := context.WithTimeout(ctx, glanceLimit)
	defer cancel()
	var g Glance
	if IsShared(name) {
		return g, errors.New("a server is not asked for names")
	}
	path, err := filepath.Abs(name)
	if err != nil {
		return g, err
	}
	db, err := sql.Open("sqlite", uri(path)+"?mode=ro&_pragma=query_only(1)")
	if err != nil {
		return g, err
	}
	defer db.Close()
	if g.Machines, err = column(ctx, db, `SELECT name FROM machines`); err != nil {
		return g, err
	}
	g.Runs, err = column(ctx, db, `SELECT id FROM runs ORDER BY started DESC LIMIT 50`)
	return g, err
}

func column(ctx context.Context, db *sql.DB, query string) ([]string, error) {
	rows, err := db.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		all = append(all, name)
	}
	return all, rows.Err()
}
