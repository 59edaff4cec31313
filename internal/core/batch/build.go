package batch

import (
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// MaxMachines is how many machines one sheet may ask for.
const MaxMachines = 200_000

// Wanted is a machine that the sheet asks for, before it has its addresses.
type Wanted struct {
	machine.Machine
	wishes    [][]wish // by adapter
	row       *source
	duplicate bool // of a machine in an earlier row; told, and nothing more to be told
}

// wish is one word of an address cell and where it stands.
type wish struct {
	address.Wish
	at finding.Position
}

// Origin tells where the value of a column came from.
func (w *Wanted) Origin(column string) Origin { return w.row.find(column) }

// Build makes the machines of a sheet. It tells every finding of every cell;
// the machines are only good for use when none of them is an error.
func Build(table *sheet.Table, s *setup.Setup) ([]*Wanted, finding.List) {
	b := &builder{table: table, setup: s, index: map[string]int{}, told: map[string]bool{},
		names: map[string]finding.Position{}, checked: map[string]error{}}
	b.most = 1
	for i, c := range table.Columns {
		b.index[c.ID()] = i
		b.most = max(b.most, c.Adapter)
	}
	for id := range s.ValueColumns() {
		if c, ok := sheet.ParseColumn(id); ok {
			b.most = max(b.most, c.Adapter)
		}
	}
	for _, row := range table.Rows {
		b.row(row)
	}
	return b.wanted, b.found
}

type builder struct {
	table   *sheet.Table
	setup   *setup.Setup
	index   map[string]int
	most    int // the highest number of an adapter that sheet or setup speak of
	wanted  []*Wanted
	found   finding.List
	told    map[string]bool
	names   map[string]finding.Position // by lower-case name
	checked map[string]error            // what once came of a costly check
}

// add tells a finding once, although a preset's value or a range's row may
// come by many times.
func (b *builder) add(f finding.Finding) {
	id := fmt.Sprint(f.Code, f.At, f.Message)
	if !b.told[id] {
		b.told[id] = true
		b.found.Add(f)
	}
}

// once makes a costly check of a text that many rows share.
func (b *builder) once(text string, check func(string) error) error {
	err, known := b.checked[text]
	if !known {
		err = check(text)
		b.checked[text] = err
	}
	return err
}

func (b *builder) bad(code string, o Origin, message, hint string) {
	b.add(finding.Finding{Code: code, At: o.At, Value: o.Value, Message: message, Hint: hint})
}

func (b *builder) row(row sheet.Row) {
	src := &source{table: b.table, index: b.index, setup: b.setup, row: row}
	name := src.find("machine")
	if name.Value == "" {
		b.bad("missing-machine", name, "the row has no machine name", "write a name, or empty the whole row")
	}
	span, err := machine.ParseSpan(name.Value)
	if err != nil {
		b.bad("bad-range", name, err.Error(), "write bms-sonar-[01-12]; in a CSV, a cell with a comma in it stands in quotes")
		span, _ = machine.ParseSpan("")
	}
	if span.Count() > MaxMachines || len(b.wanted)+span.Count() > MaxMachines {
		b.bad("too-many-machines", name, fmt.Sprintf("more than %d machines in one sheet", MaxMachines), "is the range what you meant? otherwise split the sheet")
		return
	}
	b.reference(src, "preset", setup.Names(b.setup.Presets), &src.preset)
	b.reference(src, "template", setup.Names(b.setup.Templates), &src.template)
	if src.find("template").Value == "" {
		b.bad("missing-template", src.find("template"), "no template is named", "name one in the row, its preset or the defaults")
	}
	common := b.spec(src)
	for i := range span.Count() {
		b.machine(src, name, span.Name(i), i, common)
	}
}

// reference checks a cell that names something in the setup.
func (b *builder) reference(src *source, column string, known []string, into *string) {
	o := src.find(column)
	if o.Value == "" {
		return
	}
	if !slices.Contains(known, o.Value) {
		b.bad("unknown-"+column, o, fmt.Sprintf("unknown %s %q", column, o.Value), finding.DidYouMean(o.Value, known))
		return
	}
	*into = o.Value
}

// machine adds the i-th machine of a row; spec is what all of them share.
func (b *builder) machine(src *source, cell Origin, name string, i int, spec machine.Spec) {
	w := &Wanted{row: src}
	w.Machine = machine.Machine{Key: machine.Key{Name: name}, Spec: spec}
	b.reference(src, "site", setup.Names(b.setup.Sites), &w.Site)
	if w.Site == "" && src.find("site").Value == "" {
		if names := setup.Names(b.setup.Sites); len(names) == 1 {
			w.Site = names[0]
		} else {
			b.bad("missing-site", src.find("site"), "no site is named, and the setup has several", finding.DidYouMean("", names))
		}
	}
	if name != "" {
		b.register(w, cell)
	}
	w.Guest.Hostname = strings.ToLower(name)
	if o := src.find("hostname"); o.Value != "" {
		w.Guest.Hostname = o.Value
		if err := machine.CheckLabel(o.Value); err != nil {
			b.bad("bad-hostname", o, err.Error(), "a domain belongs in the domain column")
		} else if src.isRange() {
			b.bad("bad-hostname", o, "one host name for a range of machines", "leave it empty: each takes its machine's name")
		}
	}
	w.Adapters = slices.Clone(spec.Adapters)
	for n := range w.Adapters {
		w.wishes = append(w.wishes, b.wishes(src, n+1, i))
	}
	b.wanted = append(b.wanted, w)
}

// register holds a machine's name against the standard and the other rows.
func (b *builder) register(w *Wanted, cell Origin) {
	if err := machine.CheckLabel(w.Name); err != nil {
		b.bad("bad-hostname", cell, fmt.Sprintf("machine name %q: %s", w.Name, err), "use letters, digits and hyphens")
		return
	}
	id := strings.ToLower(w.Site + "/" + w.Name)
	if first, taken := b.names[id]; taken {
		w.duplicate = true
		b.bad("duplicate-machine", cell, fmt.Sprintf("machine %s is already in %s", w.Name, first), "each machine has one row")
		return
	}
	b.names[id] = cell.At
}

func (s *source) isRange() bool {
	span, err := machine.ParseSpan(s.find("machine").Value)
	return err == nil && span.Count() > 1
}

// wishes reads the address cell of an adapter for the i-th machine of the row.
func (b *builder) wishes(src *source, adapter, i int) []wish {
	id := sheet.ColumnID("address", adapter)
	o := src.find(id)
	var all []wish
	for _, word := range strings.Fields(o.Value) {
		parsed, err := address.ParseWish(word)
		if err == nil {
			parsed, err = parsed.At(i)
		}
		if err != nil {
			b.bad("bad-address", o, err.Error(), "")
			continue
		}
		all = append(all, wish{parsed, o.At})
	}
	if o.Value == "" {
		all = append(all, wish{address.Wish{Kind: address.DHCP}, o.At})
	}
	return all
}
