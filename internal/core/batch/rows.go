package batch

import (
	"slices"
	"strings"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/sheet"
)

// Rows leaves out of a table the rows that have an error in their cells, and of the
// findings those errors, as far as none of the machines of such a row is named. Where
// findings are only counted, which rows they are of is not known, and none is left out.
func Rows(t *sheet.Table, found finding.List, named func(machine string) bool) finding.List {
	if slices.ContainsFunc(found, func(f finding.Finding) bool { return f.More > 0 }) {
		return found
	}
	wrong := map[int]bool{}
	for _, f := range found {
		if f.At.Row > t.HeadingRow {
			wrong[f.At.Row] = wrong[f.At.Row] || f.Severity == finding.Error
		}
	}
	about := map[int]bool{}
	t.Rows = slices.DeleteFunc(t.Rows, func(r sheet.Row) bool {
		faulty, told := wrong[r.Number]
		about[r.Number] = told && slices.ContainsFunc(namesOf(t, r), named)
		return faulty && !about[r.Number]
	})
	return slices.DeleteFunc(found, func(f finding.Finding) bool {
		_, ofRow := wrong[f.At.Row]
		return ofRow && !about[f.At.Row]
	})
}

// namesOf lists the machines of a row, as far as its cell has any.
func namesOf(t *sheet.Table, r sheet.Row) []string {
	cell := t.Fixed["machine"].Value
	if i := t.Column("machine", 0); i >= 0 && cell == "" {
		cell = r.Cells[i]
	}
	span, err := machine.ParseSpan(cell)
	if err != nil || span.Count() > MaxMachines {
		return nil
	}
	names := span.Names()
	for i := range names {
		names[i], _ = inDomain(names[i])
	}
	return names
}

// Names are the names that cells of the column of machines stand for, in lower case, whatever
// is wrong with others.
func Names(cells []string) map[string]bool {
	names := map[string]bool{}
	for _, cell := range cells {
		span, err := machine.ParseSpan(cell)
		if err != nil || span.Count() > MaxMachines {
			continue
		}
		for i := range span.Count() {
			name, _ := inDomain(span.Name(i))
			names[strings.ToLower(name)] = true
		}
	}
	return names
}
