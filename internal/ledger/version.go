package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

// VersionState is how far a version of a template is at a site.
type VersionState string

// The states.
const (
	VersionMaking VersionState = "making" // or begun by a run that did not finish it
	VersionMade   VersionState = "made"   // once its site has all of it
	// VersionDropping is of one that a run began to delete, which nobody goes on to make.
	VersionDropping VersionState = "dropping"
	VersionDropped  VersionState = "dropped" // its number is not given again
)

// Version is a version of a template at a site.
type Version struct {
	Site  string
	State VersionState
	Run   string
	contract.Version
}

// ErrVersionTaken means that a number is another content's already.
var ErrVersionTaken = errors.New("this version is there already, with another content")

// BeginVersion writes that a version is being made at a site. If no number is given it gets the next one: larger
// than any that the ledger has of the template, and than the least. One of the same content that was begun at the
// same site is gone on with, and one that was made is returned as it is.
func (l *Ledger) BeginVersion(ctx context.Context, v Version, least int) (Version, error) {
	begun := v
	err := l.write(ctx, func(tx transaction) error {
		begun = v
		all, err := versionsIn(tx, v.Of)
		if err != nil {
			return err
		}
		next := least
		for _, other := range all {
			next = max(next, other.Number)
			same := other.Digest == v.Digest
			switch {
			case v.Number == other.Number && (!same || other.Site == v.Site && other.State == VersionDropping):
				return fmt.Errorf("%w: %s", ErrVersionTaken, other.Name())
			case v.Number == 0 && same && other.Site == v.Site && other.State == VersionMaking,
				v.Number == other.Number && same && other.Site == v.Site && other.State != VersionDropped:
				other.Run = v.Run
				begun = other
				if other.State == VersionMade {
					return nil
				}
				return putVersion(tx, begun)
			}
		}
		if begun.Number == 0 {
			begun.Number = next + 1
		}
		begun.State = VersionMaking
		return putVersion(tx, begun)
	})
	return begun, err
}

// PutVersion writes how far a version is at a site.
func (l *Ledger) PutVersion(ctx context.Context, v Version) error {
	return l.write(ctx, func(tx transaction) error { return putVersion(tx, v) })
}

func putVersion(tx transaction, v Version) error {
	return tx.Exec(`INSERT INTO versions (template, number, site, state, about, run) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (template, number, site) DO UPDATE SET state = excluded.state, about = excluded.about, run = excluded.run`,
		v.Of, v.Number, v.Site, string(v.State), encode(v.Version), v.Run)
}

const versionColumns = `SELECT template, number, site, state, about, run FROM versions`

// Versions lists all versions of templates, by template, number and site, those that were dropped too.
func (l *Ledger) Versions(ctx context.Context) ([]Version, error) {
	var all []Version
	if err := l.checkRows(ctx, "versions", "1 = 1"); err != nil {
		return nil, err
	}
	err := l.read(ctx, versionColumns+` ORDER BY template, number, site`, func(row *sql.Rows) error {
		v, err := scanVersion(row)
		all = append(all, v)
		return err
	})
	return all, err
}

func versionsIn(tx transaction, template string) ([]Version, error) {
	rows, err := tx.Query(versionColumns+` WHERE template = ? ORDER BY number, site`, template)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Version
	for rows.Next() {
		v, err := scanVersion(rows)
		if err != nil {
			return nil, err
		}
		all = append(all, v)
	}
	return all, rows.Err()
}

func scanVersion(row *sql.Rows) (Version, error) {
	var v Version
	var template, about string
	var number int
	if err := row.Scan(&template, &number, &v.Site, &v.State, &about, &v.Run); err != nil {
		return v, err
	}
	if err := json.Unmarshal([]byte(about), &v.Version); err != nil || v.Of != template || v.Number != number {
		return v, damaged(fmt.Sprintf("version %s of site %s", machine.Version{Template: template, Number: number}, v.Site))
	}
	return v, nil
}
