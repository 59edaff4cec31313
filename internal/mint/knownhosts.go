package mint

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/report"
	"mintbatch/internal/run"
)

// WriteKnownHosts brings a known_hosts file up to date with the machines of the
// ledger, and returns how many of them it now knows.
func (s *Session) WriteKnownHosts(ctx context.Context, path string) (int, error) {
	known, err := s.Ledger.Machines(ctx)
	if err != nil {
		return 0, err
	}
	authority, err := s.authority()
	if err != nil {
		return 0, err
	}
	var hosts []report.Host
	for _, k := range known {
		if k.HostKey != "" {
			hosts = append(hosts, report.Host{Names: run.Names(&machine.Machine{Key: k.Key, Spec: k.Spec}), Key: k.HostKey})
		}
	}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real // the link stays
	}
	public := ""
	if authority != nil {
		public = authority.Public()
	}
	old, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	return len(hosts), replaceFile(path, report.KnownHosts(old, hosts, public))
}
