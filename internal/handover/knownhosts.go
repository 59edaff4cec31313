package handover

import (
	"context"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/mint"
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
			hosts = append(hosts, report.Host{Names: run.Names(&machine.Machine{Key: k.Key, Spec: k.Spec()}), Key: k.HostKey})
		}
	}
	public := ""
	if authority != nil {
		public = authority.Public()
	}
	return len(hosts), bring(d, path, func(old []byte) ([]byte, error) {
		if err := report.CheckKnownHosts(old); err != nil {
			return nil, err
		}
		return report.KnownHosts(old, hosts, public), nil
	})
}
