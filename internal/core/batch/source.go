// Package batch turns the rows of a sheet into the machines that they ask for:
// each value from the row, else its preset, its template or the defaults.
package batch

import (
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// Origin tells where a value came from.
type Origin struct {
	Value string           `json:"value"`
	From  string           `json:"from"` // `row`, `preset sonar-node`, ...
	At    finding.Position `json:"at"`
}

// source finds the values of one row's machines.
type source struct {
	table *sheet.Table
	index map[string]int // of columns, by their id
	setup *setup.Setup
	row   sheet.Row
	// preset and template are known only once they were looked up themselves.
	preset, template string
}

// find returns the text that counts for a column. Without any, the text is
// empty and the origin names the place where one could be written.
func (s *source) find(id string) Origin {
	i, has := s.index[id]
	if has && s.row.Cells[i] != "" {
		return Origin{Value: s.row.Cells[i], From: "row", At: s.table.Position(s.row, i)}
	}
	if v, ok := s.setup.Presets[s.preset].Values[id]; ok {
		return Origin{v, "preset " + s.preset, s.setup.Where("presets", s.preset, id)}
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
