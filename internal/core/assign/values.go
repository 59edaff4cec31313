package assign

import (
	"fmt"
	"slices"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// ofValues are the codes of findings that are about a value by itself, whatever the row
// says that it counts for.
var ofValues = []string{"unknown-preset", "unknown-template", "unknown-site", "unknown-network", "unknown-firstboot", "unknown-pool", "bad-size", "bad-cpus", "bad-disks",
	"bad-address", "bad-mac", "bad-clone", "bad-firmware", "bad-link", "bad-power", "bad-date", "bad-labels", "bad-checkpoint", "bad-after", "bad-media", "bad-confirm", "bad-key", "bad-domain", "bad-timezone",
	"literal-password", "literal-licence", "literal-placeholder", "secret-in-clear"}

// ofGuests are those that depend on the guest, and so on the template.
var ofGuests = []string{"bad-locale", "bad-login", "bad-password", "bad-volumes"}

// CheckValues reports what is wrong with the values that a setup has for rows: those of
// its defaults, templates and presets, each as a row would find it that names it.
func CheckValues(s *setup.Setup) finding.List {
	const name = "\x00"
	tables := map[bool]*sheet.Table{} // by whether a row's template is known
	for _, sure := range []bool{true, false} {
		tables[sure] = &sheet.Table{File: name}
		for i, id := range []string{"machine", "preset", "template"} {
			tables[sure].Columns = append(tables[sure].Columns, sheet.Column{Name: id, Heading: id, Index: i + 1})
		}
	}
	row := func(sure bool, preset, template string) {
		t := tables[sure]
		t.Rows = append(t.Rows, sheet.Row{Number: len(t.Rows) + 1, Cells: []string{fmt.Sprintf("x-%d", len(t.Rows)), preset, template}})
	}
	row(false, "", "")
	for _, t := range setup.Names(s.Templates) {
		row(true, "", t)
	}
	for _, p := range setup.Names(s.Presets) {
		named := slices.ContainsFunc(s.Lineage(p), func(p string) bool { return s.Presets[p].Values["template"] != "" })
		row(named || len(s.Templates) == 1, p, "")
	}
	var all finding.Collector
	for _, sure := range []bool{false, true} {
		t := tables[sure]
		wanted, found := batch.BuildNameless(t, s)
		_, more := Addresses(wanted, s, Past{nameless: true})
		for _, f := range append(found, more...) {
			if f.At.File != name && (slices.Contains(ofValues, f.Code) || sure && slices.Contains(ofGuests, f.Code)) {
				all.Add(f, "")
			}
		}
	}
	return all.List().Sorted()
}
