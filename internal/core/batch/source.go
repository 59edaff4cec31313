// Package batch turns the rows of a sheet into the machines that they ask for:
// each value from the row, else its preset, its template or the defaults.
package batch

import (
	"strings"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// Origin tells where a value came from.
type Origin struct {
	Value string           `json:"value"`
	From  string           `json:"from"` // `row`, `preset sonar-node`, ...
	At    finding.Position `json:"at"`
}

// source finds the values of one machine.
type source struct {
	table *sheet.Table
	index map[string]int // of columns, by their id
	setup *setup.Setup
	row   sheet.Row
	// presets and template are known only once they were looked up themselves.
	presets  []string // the row's preset and those it builds on
	template string
	// Of the machine among those of its row:
	span machine.Span
	i    int
	name string

	varies bool              // a value was asked for that differs from machine to machine
	within []string          // the columns whose placeholders are being replaced
	known  map[string]string // what placeholders came to, by column
	bad    func(code string, o Origin, message, hint string)
}

// find returns the text that counts for a column, its placeholders replaced.
// Without any, the text is empty and the origin names the place where one
// could be written.
func (s *source) find(id string) Origin {
	o := s.written(id)
	if strings.Contains(o.Value, "{") && takesPlaceholders(id) {
		o.Value = s.replaced(id, o)
	}
	return o
}

// written returns a column's text as it is written.
func (s *source) written(id string) Origin {
	if f, ok := s.table.Fixed[id]; ok {
		return Origin{f.Value, "columns", f.At}
	}
	i, has := s.index[id]
	if has && s.row.Cells[i] != "" {
		return Origin{Value: s.row.Cells[i], From: "row", At: s.table.Position(s.row, i)}
	}
	for _, preset := range s.presets {
		if v, ok := s.setup.Presets[preset].Values[id]; ok {
			return Origin{v, "preset " + preset, s.setup.Where("presets", preset, id)}
		}
	}
	if v, ok := s.setup.Templates[s.template].Values[id]; ok {
		return Origin{v, "template " + s.template, s.setup.Where("templates", s.template, id)}
	}
	if v, ok := s.setup.Defaults[id]; ok {
		return Origin{v, "defaults", s.setup.Where("defaults", id)}
	}
	if has {
		return Origin{At: s.table.Position(s.row, i)}
	}
	return Origin{At: s.table.RowPosition(s.row)}
}

// isRange tells whether the row asks for more than one machine.
func (s *source) isRange() bool { return s.span.Count() > 1 }

// Columns lists every column, by its id, that sheet or setup could give a
// machine a value in.
func Columns(w *Wanted) []string {
	var ids []string
	for _, name := range sheet.ColumnNames() {
		ids = append(ids, name)
		for n := 2; sheet.PerAdapter(name) && n <= len(w.Adapters); n++ {
			ids = append(ids, sheet.ColumnID(name, n))
		}
	}
	return ids
}
