package ledger

import (
	"context"
	"database/sql"
	"unique"
)

// room makes place for as many as a table has.
func room[T any](ctx context.Context, l *Ledger, table string, which selection) (all []T, err error) {
	err = l.read(ctx, `SELECT count(*) FROM `+table+` WHERE `+which.condition, func(row *sql.Rows) error {
		n := 0
		err := row.Scan(&n)
		all = make([]T, 0, n)
		return err
	}, which.args...)
	return all, err
}

// shared is a text that many rows have, in memory once.
func shared[T ~string](text T) T { return T(unique.Make(string(text)).Value()) }
