package mint

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"mintbatch/internal/core/setup"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
)

// mostGlanced is the largest workbook that is read for the names in it; text is read
// whatever its size.
const mostGlanced = 256 << 10

// Candidates are what a word of a command line may be, by what is meant: MACHINE, TEMPLATE,
// SITE, NETWORK, POOL, PRESET, RUN, FIELD, KIND. No site is asked, and whatever cannot be
// read has no names.
func Candidates(ctx context.Context, in input.Input, meant string) []string {
	switch meant {
	case "FIELD", "FIELDS", "CONDITION":
		return FieldNames()
	case "KIND":
		return []string{"csv", "tsv", "xlsx", "ods", "json", "jsonl", "yaml"}
	}
	b, _ := input.LoadSetup(in)
	if b == nil || b.Setup == nil {
		return nil
	}
	s := b.Setup
	switch meant {
	case "TEMPLATE":
		return setup.Names(s.Templates)
	case "SITE":
		return setup.Names(s.Sites)
	case "NETWORK":
		return setup.Names(s.Networks)
	case "PRESET":
		return setup.Names(s.Presets)
	case "POOL":
		var all []string
		for _, network := range setup.Names(s.Networks) {
			for _, pool := range slices.Sorted(maps.Keys(s.Networks[network].Pools)) {
				all = append(all, network+"/"+pool)
			}
		}
		return all
	case "RUN":
		seen, _ := ledger.Look(ctx, b.LedgerPath())
		return seen.Runs
	case "MACHINE":
		var seen ledger.Glance
		var looked sync.WaitGroup
		looked.Go(func() { seen, _ = ledger.Look(ctx, b.LedgerPath()) })
		names := inSheet(b, in)
		looked.Wait()
		for _, name := range seen.Machines {
			names[name] = true
		}
		return slices.Sorted(maps.Keys(names))
	}
	return nil
}

// inSheet are the names in the sheet.
func inSheet(b *input.Batch, in input.Input) map[string]bool {
	path := in.Sheet
	if path == "" && b.Setup.Sheet != "" {
		path = b.Path(b.Setup.Sheet)
	}
	info, err := os.Stat(path)
	workbook := slices.Contains([]string{".xlsx", ".ods"}, strings.ToLower(filepath.Ext(path)))
	if err != nil || workbook && info.Size() > mostGlanced {
		return map[string]bool{}
	}
	if names := b.SheetNames(in); names != nil {
		return names
	}
	return map[string]bool{}
}
