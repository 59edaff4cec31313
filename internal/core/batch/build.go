package batch

import (
	"fmt"
	"regexp"
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
	duplicate bool // of another, or misnamed; told, and nothing more to be told
}

// wish is one word of an address cell and where it stands.
type wish struct {
	address.Wish
	at finding.Position
}

// Origin tells where the value of a column came from.
func (w *Wanted) Origin(column string) Origin { return w.row.find(column) }

// SealedAt tells where a sealed value is referred to.
func (w *Wanted) SealedAt(name string) finding.Position {
	for _, column := range []string{"password", "licence"} {
		if o := w.row.find(column); o.Value == "secret:"+name {
			return o.At
		}
	}
	for _, column := range []string{"firstboot", "preset"} {
		if o := w.row.find(column); o.Value != "" {
			return o.At
		}
	}
	return w.row.written("machine").At
}

// Row tells in which row of the sheet the machine stands.
func (w *Wanted) Row() int { return w.row.row.Number }

// Build makes the machines of a sheet. It tells every finding of every cell;
// the machines are only good for use when none of them is an error.
func Build(table *sheet.Table, s *setup.Setup) ([]*Wanted, finding.List) {
	b := &builder{table: table, setup: s, index: map[string]int{}, told: map[string]bool{},
		taken: map[string]finding.Position{}, hostnames: map[string]finding.Position{}, shared: map[machine.PasswordKind]bool{},
		checked: map[string]error{}, joined: map[string]*machine.Firstboot{}, patterns: map[string]*regexp.Regexp{}}
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
	table     *sheet.Table
	setup     *setup.Setup
	index     map[string]int
	most      int // the highest number of an adapter that sheet or setup speak of
	wanted    []*Wanted
	found     finding.List
	told      map[string]bool
	taken     map[string]finding.Position // names, in lower case
	hostnames map[string]finding.Position
	shared    map[machine.PasswordKind]bool
	checked   map[string]error              // what once came of a costly check
	joined    map[string]*machine.Firstboot // first-boot contents, by presets and fragments
	patterns  map[string]*regexp.Regexp
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
	src := &source{table: b.table, index: b.index, setup: b.setup, row: row, bad: b.bad}
	b.secrets(src)
	name := src.written("machine")
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
	var preset string
	b.reference(src, "preset", setup.Names(b.setup.Presets), &preset)
	src.presets = b.setup.Lineage(preset)
	b.reference(src, "template", setup.Names(b.setup.Templates), &src.template)
	if src.find("template").Value == "" {
		b.bad("missing-template", src.find("template"), "no template is named", "name one in the row, its preset or the defaults")
	}
	rules := b.rules(src)
	var common machine.Spec
	for i := range span.Count() {
		own := *src
		own.span, own.i, own.name = span, i, lowered(span.Name(i), rules)
		if i == 0 || own.varies {
			own.varies = false
			common = b.spec(&own)
			src.varies = own.varies
		}
		b.machine(&own, name, common, rules)
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

// machine adds a machine of a row; spec is what all of them share.
func (b *builder) machine(src *source, cell Origin, spec machine.Spec, rules []setup.NameRule) {
	w := &Wanted{row: src}
	w.Machine = machine.Machine{Key: machine.Key{Name: src.name}, Spec: spec}
	b.reference(src, "site", setup.Names(b.setup.Sites), &w.Site)
	if w.Site == "" && src.find("site").Value == "" {
		if names := setup.Names(b.setup.Sites); len(names) == 1 {
			w.Site = names[0]
		} else {
			b.bad("missing-site", src.find("site"), "no site is named, and the setup has several", finding.DidYouMean("", names))
		}
	}
	if _, shared := w.Guest.Password.Shared(); shared {
		if b.shared[w.Guest.Password] {
			b.warn("shared-password", src.find("password"), "the password of this machine is also that of others", "generate makes one for each")
		}
		b.shared[w.Guest.Password] = true
	}
	b.hostname(w)
	if src.name != "" {
		b.names(w, cell, rules)
	}
	w.Adapters = slices.Clone(spec.Adapters)
	for n := range w.Adapters {
		w.wishes = append(w.wishes, b.wishes(src, n+1, spec.Adapters[n]))
	}
	b.wanted = append(b.wanted, w)
}

func (b *builder) hostname(w *Wanted) {
	src := w.row
	w.Guest.Hostname = strings.ToLower(w.Name)
	o := src.find("hostname")
	if o.Value != "" {
		w.Guest.Hostname = o.Value
		if err := machine.CheckLabel(o.Value); err != nil {
			b.bad("bad-hostname", o, err.Error(), "a domain belongs in the domain column")
		} else if src.isRange() && o.Value == src.written("hostname").Value {
			b.bad("bad-hostname", o, "one host name for a range of machines", "leave it empty: each takes its machine's name; or write {number} into it")
		}
	}
	fqdn := strings.ToLower(w.Guest.FQDN())
	if first, taken := b.hostnames[fqdn]; taken && o.Value != "" {
		b.warn("shared-hostname", o, fmt.Sprintf("host name %s is also that of %s", fqdn, first), "two machines will answer to one name")
	}
	if o.Value == "" {
		o = src.written("machine")
	}
	b.hostnames[fqdn] = o.At
}

// wishes reads the address cell of an adapter.
func (b *builder) wishes(src *source, adapter int, a machine.Adapter) []wish {
	o := src.find(sheet.ColumnID("address", adapter))
	var all []wish
	for _, word := range strings.FieldsFunc(o.Value, func(r rune) bool { return strings.ContainsRune(" \t\n,;", r) }) {
		parsed, err := address.ParseWish(word)
		if err == nil {
			parsed, err = parsed.At(src.i)
		}
		if err != nil {
			b.bad("bad-address", o, err.Error(), "")
			continue
		}
		all = append(all, wish{parsed, o.At})
	}
	if o.Value == "" && !a.Via.Bonded() {
		all = append(all, wish{address.Wish{Kind: address.DHCP}, o.At})
	}
	for _, w := range all {
		if a.Via.Bonded() && w.Kind != address.None {
			b.bad("bad-address", o, "the second card of a bond has no address of its own", "leave it empty")
		}
		if a.NoIPv6 && (w.Kind == address.DHCP6 || w.Kind == address.SLAAC || w.Kind == address.Literal && w.Addr.Is6()) {
			b.bad("bad-address", o, fmt.Sprintf("%s is of IPv6, which the network's setup switches off", w), "remove it, or ipv6: off in the setup")
		}
	}
	return all
}
