package ledger

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/machine"
)

// Reservation is an address that the ledger keeps.
type Reservation = address.Reservation

// Reservations returns all reservations, by network and address; those whose
// time is over, too.
func (l *Ledger) Reservations(ctx context.Context) ([]Reservation, error) {
	return verified(func() error { return l.checkRows(ctx, "reservations", "") }, func() ([]Reservation, error) { return l.reservations(ctx) })
}

func (l *Ledger) reservations(ctx context.Context) ([]Reservation, error) {
	all, err := room[Reservation](ctx, l, "reservations", everything("", ""))
	if err != nil {
		return nil, err
	}
	err = l.read(ctx, `SELECT network, address, site, machine, adapter, pool, standing, note, since, until FROM reservations ORDER BY network, address`, func(row *sql.Rows) error {
		all = append(all, Reservation{})
		r := &all[len(all)-1]
		var text, since, until string
		if err := row.Scan(&r.Network, &text, &r.Site, &r.Machine, &r.Adapter, &r.Pool, &r.Standing, &r.Note, &since, &until); err != nil {
			return err
		}
		r.Network, r.Site, r.Pool, r.Standing = shared(r.Network), shared(r.Site), shared(r.Pool), shared(r.Standing)
		addr, err := netip.ParseAddr(text)
		r.Addr, r.Since, r.Until = addr, parseTime(since), parseTime(until)
		return err
	})
	return all, err
}

// seconds writes a time so that text compares as time does.
func seconds(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("2006-01-02T15:04:05Z")
}

// reserve makes the machine's reservations those given and no others. An
// address that somebody else holds is refused; the table's key ensures that
// none can be held twice.
func reserve(tx transaction, key machine.Key, want []Reservation) error {
	if err := tx.Exec(`DELETE FROM reservations WHERE site = ? AND machine = ?`, key.Site, key.Name); err != nil {
		return err
	}
	for _, r := range want {
		if err := insertReservation(tx, r, ""); err != nil {
			return err
		}
	}
	return nil
}

// reserveMore makes reservations for a machine, besides those that it has.
func reserveMore(tx transaction, key machine.Key, want []Reservation) error {
	for _, r := range want {
		if err := tx.Exec(`DELETE FROM reservations WHERE network = ? AND address = ? AND site = ? AND machine = ?`, r.Network, r.Addr.String(), key.Site, key.Name); err != nil {
			return err
		}
		if err := insertReservation(tx, r, ""); err != nil {
			return err
		}
	}
	return nil
}

// releaseOthers gives back the addresses of a machine that its spec does not have.
func releaseOthers(tx transaction, key machine.Key, spec machine.Spec) error {
	query := `DELETE FROM reservations WHERE site = ? AND machine = ?`
	args := []any{key.Site, key.Name}
	for _, a := range spec.Adapters {
		for _, p := range a.Given() {
			query += ` AND address <> ?`
			args = append(args, p.Addr().String())
		}
	}
	return tx.Exec(query, args...)
}

// insertReservation writes a reservation where nobody else has the address, or its time is
// over; with a run, for as long as that goes on.
func insertReservation(tx transaction, r Reservation, run string) error {
	if n, err := insertReservations(tx, []Reservation{r}, run); err != nil || n == 0 {
		return cmp.Or(err, fmt.Errorf("%w: %s of network %s", ErrAddressTaken, r.Addr, r.Network))
	}
	return nil
}

// insertReservations writes those of some reservations that can be, and counts them.
func insertReservations(tx transaction, all []Reservation, run string) (int, error) {
	rows := make([][]any, len(all))
	for i, r := range all {
		rows[i] = []any{r.Network, r.Addr.String(), r.Site, r.Machine, r.Adapter, r.Pool, cmp.Or(r.Standing, address.InUse), r.Note, now(), seconds(r.Until), run}
	}
	return insert(tx, `INSERT INTO reservations (network, address, site, machine, adapter, pool, standing, note, since, until, run) VALUES`, rows,
		`ON CONFLICT (network, address) DO UPDATE SET site = excluded.site, machine = excluded.machine, adapter = excluded.adapter, pool = excluded.pool,
			standing = excluded.standing, note = excluded.note, since = excluded.since, until = excluded.until, run = excluded.run
		WHERE reservations.until <> '' AND reservations.until <= ?`, seconds(time.Now()))
}

// reserveForRun reserves addresses for machines, for as long as a run goes on. What
// a machine has already stays as it is.
func reserveForRun(tx transaction, all []Reservation, run string) error {
	all = slices.Clone(all)
	for i := range all {
		all[i].Standing = address.Reserved
	}
	if n, err := insertReservations(tx, all, run); err != nil || n == len(all) {
		return err
	}
	for _, r := range all { // some are taken, by their machines or by others
		if err := reserveOne(tx, r, run); err != nil {
			return err
		}
	}
	return nil
}

func reserveOne(tx transaction, r Reservation, run string) error {
	var mine bool
	err := tx.QueryRow(`SELECT EXISTS (SELECT 1 FROM reservations WHERE network = ? AND address = ? AND site = ? AND machine = ? AND (until = '' OR until > ?))`,
		r.Network, r.Addr.String(), r.Site, r.Machine, seconds(time.Now())).Scan(&mine)
	if err != nil || mine {
		return err
	}
	return insertReservation(tx, r, run)
}

// ErrAddressTaken means that an address is held by somebody else.
var ErrAddressTaken = errors.New("the address was taken by another machine or held by hand in the meantime; run the same command again")

// HoldAddresses writes reservations that are no machine's doing: held by hand or
// imported. All are written or none.
func (l *Ledger) HoldAddresses(ctx context.Context, all []Reservation) error {
	return l.write(ctx, func(tx transaction) error {
		for _, r := range all {
			if err := insertReservation(tx, r, ""); err != nil {
				return err
			}
		}
		return nil
	})
}

// Reserve keeps addresses for a machine, and no others for it.
func (l *Ledger) Reserve(ctx context.Context, key machine.Key, all []Reservation) error {
	return l.write(ctx, func(tx transaction) error { return reserve(tx, key, all) })
}

// Free takes away the reservations of some addresses that have one of the
// standings, in one go, and tells which there were.
func (l *Ledger) Free(ctx context.Context, all []Reservation, standings ...address.Standing) (freed []Reservation, err error) {
	err = l.write(ctx, func(tx transaction) error {
		freed = nil
		for _, r := range all {
			for _, s := range standings {
				n, err := tx.Count(`DELETE FROM reservations WHERE network = ? AND address = ? AND standing = ?`, r.Network, r.Addr.String(), s)
				if err != nil {
					return err
				}
				if n > 0 {
					freed = append(freed, r)
				}
			}
		}
		return nil
	})
	return freed, err
}

// coolDown lets the addresses of a machine that goes rest; those of networks that
// until does not name are free at once.
func coolDown(tx transaction, key machine.Key, until map[string]time.Time) error {
	for network, t := range until {
		if err := tx.Exec(`UPDATE reservations SET standing = ?, since = ?, until = ? WHERE site = ? AND machine = ? AND network = ?`,
			address.Cooling, now(), seconds(t), key.Site, key.Name, network); err != nil {
			return err
		}
	}
	return tx.Exec(`DELETE FROM reservations WHERE site = ? AND machine = ? AND standing <> ?`, key.Site, key.Name, address.Cooling)
}
