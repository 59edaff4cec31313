package ledger

import (
	"context"
	"database/sql"
	"fmt"
	"net/netip"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/machine"
)

// Reservation is an address that the ledger keeps for an adapter.
type Reservation = address.Reservation

// Reservations returns all reservations, by network and address.
func (l *Ledger) Reservations(ctx context.Context) ([]Reservation, error) {
	var all []Reservation
	err := l.read(ctx, `SELECT network, address, site, machine, adapter, pool FROM reservations ORDER BY network, address`, func(row *sql.Rows) error {
		var r Reservation
		var text string
		if err := row.Scan(&r.Network, &text, &r.Site, &r.Machine, &r.Adapter, &r.Pool); err != nil {
			return err
		}
		addr, err := netip.ParseAddr(text)
		r.Addr = addr
		all = append(all, r)
		return err
	})
	return all, err
}

// reserve makes the machine's reservations those given and no others. An
// address that another machine holds is refused; the table's key sees to it
// that none can be held twice.
func reserve(tx *sql.Tx, key machine.Key, want []Reservation) error {
	if _, err := tx.Exec(`DELETE FROM reservations WHERE site = ? AND machine = ?`, key.Site, key.Name); err != nil {
		return err
	}
	for _, r := range want {
		done, err := tx.Exec(`INSERT INTO reservations (network, address, site, machine, adapter, pool, since) VALUES (?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT DO NOTHING`, r.Network, r.Addr.String(), r.Site, r.Machine, r.Adapter, r.Pool, now())
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("address %s of network %s is held by another machine meanwhile; run the same command again", r.Addr, r.Network)
		}
	}
	return nil
}
