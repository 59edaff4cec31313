package input

import (
	"slices"

	"mintbatch/internal/core/setup"
	"mintbatch/internal/ledger"
	"mintbatch/internal/output"
)

// Guard knows what no output may be written over: the setup and all that it is read
// from, the sheet, the ledger, keys, and the logs of runs.
func (b *Batch) Guard() output.Guard {
	g := output.Guard{Files: b.Inputs(), Folders: []string{b.LogDir()}}
	if path := b.LedgerPath(); !ledger.IsShared(path) {
		for _, ending := range []string{"", "-wal", "-shm", ".lock", ".migrate"} {
			g.Files = append(g.Files, path+ending)
		}
	}
	return g
}

// Inputs are the files that the setup and the sheet are read from, and those with keys.
func (b *Batch) Inputs() []string {
	files := append([]string{}, b.read...)
	if b.SheetPath != "" {
		files = append(files, b.SheetPath)
	}
	if b.Setup.Secrets.Identity != "" {
		files = append(files, b.Path(b.Setup.Secrets.Identity))
	}
	for _, r := range b.references() {
		if path, ok := r.File(); ok {
			files = append(files, b.Path(path))
		}
	}
	return files
}

// Environment are the environment variables that the setup takes values from.
func (b *Batch) Environment() []string {
	names := append([]string{}, b.environment...)
	for _, r := range b.references() {
		if r.Kind == "env" {
			names = append(names, r.Name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// references are the values of the setup that are only read when they are needed.
func (b *Batch) references() []setup.Reference {
	all := []setup.Reference{b.Setup.Secrets.HostAuthority}
	for _, site := range b.Setup.Sites {
		all = append(all, site.Token)
		for _, h := range site.Hosts {
			all = append(all, h.Password)
		}
	}
	return all
}
