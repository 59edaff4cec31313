package handover

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/mint"
	"mintbatch/internal/output"
	"mintbatch/internal/report"
	"mintbatch/internal/run"
)

// WriteKnownHosts brings a known_hosts file up to date with the machines of the
// ledger, and returns how many of them it now knows.
func WriteKnownHosts(ctx context.Context, d *mint.Desk, path string) (int, error) {
	known, err := d.Ledger.Machines(ctx)
	if err != nil {
		return 0, err
	}
	authority, err := d.Vault.Authority()
	if err != nil {
		return 0, err
	}
	var hosts []report.Host
	for _, k := range known {
		if k.HostKey != "" {
			hosts = append(hosts, report.Host{Names: run.Names(&machine.Machine{Key: k.Key, Spec: k.Spec}), Key: k.HostKey})
		}
	}
	public := ""
	if authority != nil {
		public = authority.Public()
	}
	guard := d.Guard()
	if err := guard.Check(path, output.Replace); err != nil {
		return 0, err
	}
	old, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	if err := report.CheckKnownHosts(old); err != nil {
		return 0, fmt.Errorf("%s: %w", path, err)
	}
	return len(hosts), guard.Write(path, report.KnownHosts(old, hosts, public), output.Replace, 0o644)
}
