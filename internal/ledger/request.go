package ledger

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/request"
)

// ErrRequestChanged means that somebody else has gone on with a request meanwhile.
var ErrRequestChanged = errors.New("somebody else has gone on with this request; run the same command again")

// ErrNoRequest means that there is no request of an id.
var ErrNoRequest = errors.New("no such request")

// AddRequest keeps a request with its sheet, unless it is known already.
func (l *Ledger) AddRequest(ctx context.Context, r request.Request, sheet []byte) error {
	return l.write(ctx, func(tx transaction) error {
		added, err := tx.Count(`INSERT INTO requests (id, changed, about) VALUES (?, ?, ?) ON CONFLICT DO NOTHING`, r.ID, r.Changed, encode(r))
		if err != nil || added == 0 {
			return err
		}
		if r.State != request.Received { // nobody has sent it
			return nil
		}
		if err := tx.Exec(`INSERT INTO sheets (request, content) VALUES (?, ?)`, r.ID, base64.StdEncoding.EncodeToString(sheet)); err != nil {
			return err
		}
		return note(tx, Event{What: request.Command(r.ID), Detail: fmt.Sprintf("received from %s: %s", r.Sender, r.Sheet)})
	})
}

// ChangeRequest keeps what has become of a request, and what people are to be told of it, in one go. If it is not as it was when
// it was read, nothing is changed: ErrRequestChanged.
func (l *Ledger) ChangeRequest(ctx context.Context, r request.Request, letters ...request.Letter) error {
	was := r.Changed
	r.Changed++
	return l.write(ctx, func(tx transaction) error {
		n, err := tx.Count(`UPDATE requests SET changed = ?, about = ? WHERE id = ? AND changed = ?`, r.Changed, encode(r), r.ID, was)
		if err != nil || n == 0 {
			return cmp.Or(err, ErrRequestChanged)
		}
		for _, letter := range letters {
			if err := tx.Exec(`INSERT INTO letters (id, request, at, letter) VALUES (?, ?, ?, ?)`, letter.ID, r.ID, now(), encode(letter)); err != nil {
				return err
			}
		}
		detail := r.Why
		if r.By != "" && detail == "" {
			detail = "by " + r.By
		}
		return note(tx, Event{Run: r.Run, What: fmt.Sprintf("%s: %s", request.Command(r.ID), r.State), Detail: detail})
	})
}

// requested writes that a machine which is there was asked for by a request. Of one that the ledger does not know no more is known.
func requested(tx transaction, id string, m Machine) error {
	r, text := request.Request{ID: id}, ""
	switch err := tx.QueryRow(`SELECT about FROM requests WHERE id = ?`, id).Scan(&text); {
	case errors.Is(err, sql.ErrNoRows):
		r.State, r.Received, r.Why = request.Done, time.Now().UTC(), "restored from its machines"
	case err != nil:
		return err
	default:
		if err := json.Unmarshal([]byte(text), &r); err != nil {
			return damaged(err)
		}
	}
	if !r.Asks(m.Key, m.Origin) {
		r.Machines = append(r.Machines, m.Key)
	}
	r.Run = cmp.Or(r.Run, m.Run)
	r.Changed++
	return tx.Exec(`INSERT INTO requests (id, changed, about) VALUES (?, ?, ?) ON CONFLICT (id) DO UPDATE SET changed = excluded.changed, about = excluded.about`, id, r.Changed, encode(r))
}

// Requests returns all requests, the oldest first.
func (l *Ledger) Requests(ctx context.Context) ([]request.Request, error) {
	var all []request.Request
	if err := l.checkRows(ctx, "requests", "1 = 1"); err != nil {
		return nil, err
	}
	err := l.read(ctx, `SELECT about FROM requests`, func(row *sql.Rows) error {
		var r request.Request
		err := scanJSON(row, &r)
		all = append(all, r)
		return err
	})
	slices.SortFunc(all, func(a, b request.Request) int {
		return cmp.Or(a.Received.Compare(b.Received), strings.Compare(a.ID, b.ID))
	})
	return all, err
}

// Request returns a request.
func (l *Ledger) Request(ctx context.Context, id string) (request.Request, error) {
	var r request.Request
	if err := l.checkRows(ctx, "requests", "id = ?", id); err != nil {
		return r, err
	}
	err := l.read(ctx, `SELECT about FROM requests WHERE id = ?`, func(row *sql.Rows) error { return scanJSON(row, &r) }, id)
	if err == nil && r.ID == "" {
		err = fmt.Errorf("%w: %s", ErrNoRequest, id)
	}
	return r, err
}

// Requested are the machines that requests have asked for.
func (l *Ledger) Requested(ctx context.Context) (request.Has, error) {
	all, err := l.Requests(ctx)
	return request.Of(all), err
}

// RequestSheet returns the sheet of a request.
func (l *Ledger) RequestSheet(ctx context.Context, id string) ([]byte, error) {
	text := ""
	if err := l.checkRows(ctx, "sheets", "request = ?", id); err != nil {
		return nil, err
	}
	err := l.read(ctx, `SELECT content FROM sheets WHERE request = ?`, func(row *sql.Rows) error { return row.Scan(&text) }, id)
	if err != nil {
		return nil, err
	}
	return base64.StdEncoding.DecodeString(text)
}

// Letters returns what is yet to be delivered, the oldest first.
func (l *Ledger) Letters(ctx context.Context) ([]request.Letter, error) {
	var all []request.Letter
	if err := l.checkRows(ctx, "letters", "1 = 1"); err != nil {
		return nil, err
	}
	err := l.read(ctx, `SELECT letter FROM letters ORDER BY at, id`, func(row *sql.Rows) error {
		var letter request.Letter
		err := scanJSON(row, &letter)
		all = append(all, letter)
		return err
	})
	return all, err
}

// ChangeLetter keeps what has become of a letter; false means that it is not as it was any more.
func (l *Ledger) ChangeLetter(ctx context.Context, was, is request.Letter) (changed bool, err error) {
	err = l.write(ctx, func(tx transaction) error {
		n, err := tx.Count(`UPDATE letters SET letter = ? WHERE id = ? AND letter = ?`, encode(is), was.ID, encode(was))
		changed = n > 0
		return err
	})
	return changed, err
}

// Delivered forgets a letter that has come to whom it is for.
func (l *Ledger) Delivered(ctx context.Context, id string) error {
	return l.write(ctx, func(tx transaction) error {
		return tx.Exec(`DELETE FROM letters WHERE id = ?`, id)
	})
}

func scanJSON(row *sql.Rows, into any) error {
	var text string
	if err := row.Scan(&text); err != nil {
		return err
	}
	if err := json.Unmarshal([]byte(text), into); err != nil {
		return damaged(err)
	}
	return nil
}
