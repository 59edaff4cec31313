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
	table   *sheet.Table
	index   map[string]int // of columns, by their id
	setup   *setup.Setup
	commons machine.Commons

	// While the batch is built; afterwards everything was reported already.
	bad    func(code string, o Origin, message, hint string)
	warn   func(code string, o Origin, message, hint string)
	looked map[string]bool // the columns of the row in which literal has looked
}

// source finds the text of one machine's columns.
type source struct {
	*inputs
	*basis
	row sheet.Row
	// Of the machine among those of its row:
	span *machine.Span // nil where the row's cell says it
	i    int
	name string
	// domain is that of a name which is a full one.
	domain string

	varies bool // a value was asked for that differs from machine to machine
	*expansion
}

// basis is what the values of a row build on, which many rows share. Its preset and
// template are known only once they were looked up themselves.
type basis struct {
	builtOn
	presets []string        // the preset and those it extends
	usual   *usual          // nil until it is asked for
	said    map[string]said // by the column; those that were asked for while the batch was built
}

// said is what is written for a column, and where: the name is that of the preset or template.
type said struct {
	value string
	by    level
	name  string
}

// builtOn are the names that a row builds on.
type builtOn struct {
	preset, template string
	cloned           string // the machine that is cloned in place of the template; empty if none is
	version          int    // of the template; 0 is the newest
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
	said := s.lookup(id)
	o := Origin{Value: said.value, From: string(said.by)}
	switch said.by {
	case byColumns:
		o.At = s.table.Fixed[id].At
	case byPreset:
		o.From, o.At = "preset "+said.name, s.setup.Where("presets", said.name, id)
	case byTemplate:
		o.From, o.At = "template "+said.name, s.setup.Where("templates", said.name, id)
	case byDefaults:
		o.At = s.setup.Where("defaults", id)
	default:
		if i, has := s.index[id]; has {
			o.At = s.table.Position(s.row, i)
		} else {
			o.At = s.table.RowPosition(s.row)
		}
	}
	return o
}

// level is what says what counts for a column.
type level string

const (
	byColumns  level = "columns"
	byRow      level = "row"
	byPreset   level = "preset"
	byTemplate level = "template"
	byDefaults level = "defaults"
)

// lookup finds what is written for a column, and where.
func (s *source) lookup(id string) said {
	if f, ok := s.table.Fixed[id]; ok {
		return said{value: f.Value, by: byColumns}
	}
	if i, has := s.index[id]; has && s.row.Cells[i] != "" {
		return said{value: s.row.Cells[i], by: byRow}
	}
	says, known := s.said[id]
	if !known {
		says = s.saysOf(s.setup, id)
		if s.bad != nil { // afterwards, several may ask at the same time
			s.said[id] = says
		}
	}
	return says
}

// saysOf finds what the setup says of a column.
func (b *basis) saysOf(s *setup.Setup, id string) said {
	for _, preset := range b.presets {
		if v, ok := s.Presets[preset].Values[id]; ok {
			return said{v, byPreset, preset}
		}
	}
	if v, ok := s.Templates[b.template].Values[id]; ok {
		return said{v, byTemplate, b.template}
	}
	if v, ok := s.Defaults[id]; ok {
		return said{value: v, by: byDefaults}
	}
	return said{}
}

// value is the text that counts for a column, without where it came from.
func (s *source) value(id string) string {
	value := s.lookup(id).value
	if strings.Contains(value, "{") {
		return s.find(id).Value
	}
	return value
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
func (s *source) isRange() bool { return s.names().Count() > 1 }

// names are those that the row's cell stands for.
func (s *source) names() machine.Span {
	if s.span != nil {
		return *s.span
	}
	span, _ := machine.ParseSpan(s.written("machine").Value)
	return span
}

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
