package handover

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"

	"mintbatch/internal/core/zone"
	"mintbatch/internal/mint"
	"mintbatch/internal/output"
)

// WriteHosts brings a hosts file up to date with the machines of the ledger, and returns how many of them have an
// address in it.
func WriteHosts(ctx context.Context, d *mint.Desk, path string) (int, error) {
	hosts, err := named(ctx, d)
	if err != nil {
		return 0, err
	}
	return len(hosts), bring(d, path, func(old []byte) ([]byte, error) { return zone.Hosts(old, hosts, d.Ledger.ID.String()) })
}

// WriteZone brings a zone file up to date with the machines of the ledger that are in its zone, and returns how many
// these are. The origin is that of a file without an SOA record.
func WriteZone(ctx context.Context, d *mint.Desk, path, origin string) (n int, err error) {
	hosts, err := named(ctx, d)
	if err != nil {
		return 0, err
	}
	if origin == "" {
		origin = d.Setup.Defaults["domain"]
	}
	err = bring(d, path, func(old []byte) (text []byte, err error) {
		text, n, err = zone.Zone(old, origin, hosts, d.Ledger.ID.String())
		return text, err
	})
	return n, err
}

// named are the machines of the ledger that have an address which stays theirs.
func named(ctx context.Context, d *mint.Desk) ([]zone.Host, error) {
	known, err := d.Ledger.Machines(ctx)
	var all []zone.Host
	for _, k := range known {
		h := zone.Host{Name: k.Spec().Guest.Hostname, Domain: k.Spec().Guest.Domain, Key: k.HostKey}
		for _, a := range k.Adapters {
			for _, p := range append(slices.Clone(a.Addresses), a.Lease) {
				if p.IsValid() && !slices.Contains(h.Addresses, p.Addr()) {
					h.Addresses = append(h.Addresses, p.Addr())
				}
			}
		}
		if len(h.Addresses) > 0 && h.Name != "" {
			all = append(all, h)
		}
	}
	return all, err
}

// bring writes a file anew of which others have lines, too.
func bring(d *mint.Desk, path string, up func(old []byte) ([]byte, error)) error {
	guard := d.Guard()
	if err := guard.Check(path, output.Replace); err != nil {
		return err
	}
	old, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	text, err := up(old)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return guard.Write(path, text, output.Replace, 0o644)
}
