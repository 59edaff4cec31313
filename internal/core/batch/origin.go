package batch

import (
	"strings"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// Origin is the text of a column with where it came from.
type Origin struct {
	Value string           `json:"value"`
	From  string           `json:"from"` // `row`, `preset sonar-node`, ...
	At    finding.Position `json:"at"`
}

// inputs are what all machines of a batch are made of.
type inputs struct {
	table *sheet.Table
	index map[string]int // of columns, by their id
	setup *setup.Setup

	// While the batch is built; afterwards everything was reported already.
	bad    func(code string, o Origin, message, hint string)
	warn   func(code string, o Origin, message, hint string)
	looked map[string]bool // the columns of the row in which literal has looked
}

// source finds the text of one machine's columns.
type source struct {
	*inputs
	row sheet.Row
	// presets and template are known only once they were looked up themselves.
	presets  []string // the row's preset and those it extends
	template string
	cloned   string // the machine that is cloned in place of the template; empty if none is
	version  int    // of the template; 0 is the newest
	// Of the machine among those of its row:
	span machine.Span
	i    int
	name string
	// domain is that of a name which is a full one.
	domain string

	varies bool // a value was asked for that differs from machine to machine
	*expansion
}

// expansion is of the placeholders of one machine; nil if it has none.
type expansion struct {
	within []string          // the columns that are being expanded
	known  map[string]string // what placeholders came to, by column
}

// find returns the text that counts for a column, its placeholders expanded.
// Without any, the text is empty and the origin names the place where one
// could be written.
func (s *source) find(id string) Origin {
	o := s.written(id)
	if strings.Contains(o.Value, "{") {
		s.literal(id, o)
		if expands(id) {
			o.Value = s.expanded(id, o)
		}
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

// beside returns the template that counts where the one named is a machine: that says what kind
// of guest it has, and what else templates say.
func (s *source) beside() string {
	for _, preset := range s.presets {
		if v, ok := s.setup.Presets[preset].Values["template"]; ok && !isMachine(v) {
			return withoutVersion(v)
		}
	}
	if v := s.setup.Defaults["template"]; !isMachine(v) {
		return withoutVersion(v)
	}
	return ""
}

func isMachine(template string) bool {
	_, is, _ := machine.ParseSource(template)
	return is
}

// withoutVersion is the name of a template of which a version may be named.
func withoutVersion(template string) string {
	name, _, _ := strings.Cut(template, "@")
	return name
}

// isRange reports whether the row asks for more than one machine.
func (s *source) isRange() bool { return s.span.Count() > 1 }

// Columns lists every column, by its id, that sheet or setup could give a
// machine a value in.
func Columns(w *Wanted) []string {
	var ids []string
	for _, name := range column.Names() {
		ids = append(ids, name)
		c, _ := column.Named(name)
		for n := 2; c.PerAdapter && n <= len(w.Adapters); n++ {
			ids = append(ids, column.ID(name, n))
		}
	}
	return ids
}
