package input

import (
	"mintbatch/internal/core/setup"
	"mintbatch/internal/ledger"
	"mintbatch/internal/output"
)

// Guard knows what no output may be written over: the setup and all that it is read
// from, the sheet, the ledger, keys, and the logs of runs.
func (b *Batch) Guard() output.Guard {
	g := output.Guard{Files: append([]string{}, b.read...), Folders: []string{b.LogDir()}}
	if b.SheetPath != "" {
		g.Files = append(g.Files, b.SheetPath)
	}
	if path := b.LedgerPath(); !ledger.IsShared(path) {
		for _, ending := range []string{"", "-wal", "-shm", ".lock", ".migrate"} {
			g.Files = append(g.Files, path+ending)
		}
	}
	if b.Setup.Secrets.Identity != "" {
		g.Files = append(g.Files, b.Path(b.Setup.Secrets.Identity))
	}
	refer := func(r setup.Reference) {
		if path, ok := r.File(); ok {
			g.Files = append(g.Files, b.Path(path))
		}
	}
	refer(b.Setup.Secrets.HostAuthority)
	for _, site := range b.Setup.Sites {
		refer(site.Token)
		for _, h := range site.Hosts {
			refer(h.Password)
		}
	}
	return g
}
