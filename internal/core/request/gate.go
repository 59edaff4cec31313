package request

import (
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// Gate holds the cells of a sheet against a rule, before anything is made of them: which columns may be filled, and that nothing in
// a cell is more than text; and how many machines they ask for. It puts the values that the rule sets into every row.
func Gate(r setup.RequestRule, sender string, at finding.Position, t *sheet.Table) finding.List {
	var found finding.Collector
	found.Nameless = true
	for i, c := range t.Columns {
		if c.Name == "" {
			continue
		}
		for _, row := range t.Rows {
			cell := row.Cells[i]
			if cell == "" {
				continue
			}
			if why, hint := refuses(r, c.Name, cell); why != "" {
				found.Add(finding.Finding{Code: "not-allowed", At: t.Position(row, i), Value: cell, Message: why, Hint: hint}, "")
				row.Cells[i] = unbraced.Replace(cell) // a few of them, and a range, would come to gigabytes
			}
		}
	}
	if t.Fixed == nil {
		t.Fixed = map[string]sheet.Fixed{}
	}
	literal := unbraced.Replace(sender)
	set := r.Set
	if set == nil {
		set = setup.Values{"owner": "{sender}"}
	}
	for id, value := range set {
		t.Fixed[id] = sheet.Fixed{Value: strings.ReplaceAll(value, "{sender}", literal), At: at}
	}
	limit(r, t, &found)
	return found.List()
}

// mostLooked is how many machines of a request are looked at that asks for too many.
const mostLooked = 10_000

// limit tells of a sheet that asks for more machines than its rule has, and leaves no more of its rows than can be looked at.
func limit(r setup.RequestRule, t *sheet.Table, found *finding.Collector) {
	column := t.Column("machine", 0)
	said := func(row sheet.Row) (cell string, at finding.Position) {
		if fixed, is := t.Fixed["machine"]; is || column < 0 {
			return fixed.Value, t.RowPosition(row)
		}
		return row.Cells[column], t.Position(row, column)
	}
	asked, looked := 0, 0
	var beyond *sheet.Row
	for i, row := range t.Rows {
		cell, _ := said(row)
		if span, err := machine.ParseSpan(cell); err == nil {
			asked += span.Count()
		}
		if asked > r.MostMachines() && beyond == nil {
			beyond = &t.Rows[i]
		}
		if asked <= mostLooked {
			looked = i + 1
		}
	}
	if beyond != nil {
		cell, at := said(*beyond)
		found.Add(finding.Finding{Code: "too-many-machines", At: at, Value: cell,
			Message: fmt.Sprintf("a request may ask for up to %d machines, and this one asks for %d", r.MostMachines(), asked), Hint: "send several"}, "")
		t.Rows = t.Rows[:looked]
	}
}

var unbraced = strings.NewReplacer("{", "", "}", "")

// refuses says why a cell is not for requests; empty if it is.
func refuses(r setup.RequestRule, column, cell string) (why, hint string) {
	kind, _, _ := strings.Cut(strings.ToLower(cell), ":")
	switch {
	case !slices.Contains(r.Allowed(), column):
		return fmt.Sprintf("a request may not fill the column %s", column), "leave it empty; columns that may be filled: " + strings.Join(r.Allowed(), ", ")
	case strings.ContainsAny(cell, "{}"):
		return "in a request nothing is put in for braces", "write the value itself"
	case column != "notes" && slices.Contains([]string{"secret", "file", "env"}, kind):
		return "a request may not refer to values that others keep", "leave it empty"
	case column == "template" && kind == "machine":
		return "a request may not clone a machine of others", "name a template"
	}
	return "", ""
}

// Check holds the machines that a request asks for against its rule.
func Check(s *setup.Setup, r setup.RequestRule, wanted []*batch.Wanted) finding.List {
	var found finding.Collector
	refuse := func(w *batch.Wanted, id, what, value string, globs []string) {
		if len(globs) > 0 && value != "" && !glob.Match(globs, value) {
			found.Add(finding.Finding{Code: "not-allowed", At: w.Origin(id).At, Value: value, Message: fmt.Sprintf("a request may not ask for %s %s", what, value),
				Hint: "allowed: " + strings.Join(globs, ", ")}, "", w.Name)
		}
	}
	for _, w := range wanted {
		spec := w.Spec()
		template, _, _ := strings.Cut(spec.Template, "@")
		refuse(w, "preset", "preset", spec.Preset, r.Presets)
		refuse(w, "template", "template", template, r.Templates)
		refuse(w, "site", "site", w.Site, r.Sites)
		for k, a := range w.Adapters {
			checkAdapter(s, r, &found, w, k, a)
		}
	}
	return found.List()
}

func checkAdapter(s *setup.Setup, r setup.RequestRule, found *finding.Collector, w *batch.Wanted, k int, a machine.Adapter) {
	refuse := func(column, value, why string, allowed []string) {
		found.Add(finding.Finding{Code: "not-allowed", At: w.Adapter(column, k).At, Value: value, Message: why, Hint: "allowed: " + strings.Join(allowed, ", ")}, "", w.Name)
	}
	if len(r.Networks) > 0 && !glob.Match(r.Networks, a.Network) {
		refuse("network", a.Network, "a request may not ask for network "+a.Network, r.Networks)
	}
	if len(r.Pools) == 0 || k >= len(w.Wishes) {
		return
	}
	for _, wish := range w.Wishes[k] {
		if pools := setup.Names(s.Networks[a.Network].Pools); wish.Pool == "" && len(pools) == 1 {
			wish.Pool = pools[0]
		}
		switch {
		case wish.Kind == address.Literal:
			refuse("address", wish.Word, "a request may not name addresses itself", r.Pools)
		case (wish.Kind == address.FromPool || wish.Kind == address.Leased) && !glob.Match(r.Pools, wish.Pool):
			refuse("address", wish.Word, "a request may not ask for pool "+wish.Pool, r.Pools)
		}
	}
}
