// Package batch turns the rows of a sheet and the values of a setup into machines, with a
// finding for every cell that is wrong.
package batch

import (
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// MaxMachines is how many machines one sheet may ask for.
const MaxMachines = 200_000

// Build makes the machines of a sheet. It reports every finding of every cell;
// the machines are only good for use when none of them is an error.
func Build(table *sheet.Table, s *setup.Setup) ([]*Wanted, finding.List) {
	return BuildOnly(table, s, nil)
}

// BuildOnly is Build for a command that is only about the machines that named tells.
// What is wrong with other rows is not reported; a row with an error makes no machine.
func BuildOnly(table *sheet.Table, s *setup.Setup, named func(machine string) bool) ([]*Wanted, finding.List) {
	return build(table, s, named, false)
}

// BuildNameless is Build for rows that stand for the values of a setup: its findings do
// not say which machines they affect.
func BuildNameless(table *sheet.Table, s *setup.Setup) ([]*Wanted, finding.List) {
	return build(table, s, nil, true)
}

func build(table *sheet.Table, s *setup.Setup, named func(machine string) bool, nameless bool) ([]*Wanted, finding.List) {
	b := &builder{named: named, found: finding.Collector{Nameless: nameless}, table: table, setup: s, index: map[string]int{}, hints: map[[2]string]string{},
		taken: map[machine.Key]*Wanted{}, hostnames: map[fullName]*Wanted{}, aliased: map[string]*Wanted{}, shared: map[machine.PasswordKind]bool{}, byHand: map[string]bool{},
		checked: map[[2]string]error{}, joined: map[string]*machine.Firstboot{}, bases: map[builtOn]*basis{}, asked: map[string][]Wish{}}
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
	b.columns, b.places = columnsOf(table, b.index, b.most)
	b.texts = make([]string, len(b.columns))
	b.inputs = &inputs{commons: machine.Commons{}, table: table, index: b.index, setup: s, bad: b.bad, warn: b.warn, looked: map[string]bool{}}
	defer func() { b.inputs.bad, b.inputs.warn = nil, nil }()
	b.wanted = make([]*Wanted, 0, len(table.Rows))
	for _, row := range table.Rows {
		before := len(b.wanted)
		b.faulty = false
		clear(b.inputs.looked)
		if b.row(row); b.faulty {
			b.wanted = b.wanted[:before]
		}
	}
	b.entered()
	return b.wanted, b.found.List()
}

type builder struct {
	named     func(machine string) bool // nil if all are
	faulty    bool                      // an error of the row was left out
	table     *sheet.Table
	setup     *setup.Setup
	index     map[string]int
	most      int // the highest number of an adapter that sheet or setup speak of
	columns   []readColumn
	places    map[string]int // of the columns, by id
	texts     []string       // of the row that is being read
	reading   row            // that row
	bases     map[builtOn]*basis
	inputs    *inputs
	wanted    []*Wanted
	found     finding.Collector
	room      []machine.Adapter       // for those of the row that is being read
	touched   []string                // the machines that what is looked at belongs to
	hints     map[[2]string]string    // by kind and word
	taken     map[machine.Key]*Wanted // in lower case
	hostnames map[fullName]*Wanted    // the last that has it
	aliased   map[string]*Wanted      // by full domain name of the alias
	shared    map[machine.PasswordKind]bool
	byHand    map[string]bool               // folders that were told of
	checked   map[[2]string]error           // what once came of a costly check, by kind and text
	joined    map[string]*machine.Firstboot // first-boot contents, by presets and fragments
	asked     map[string][]Wish             // the words of address cells that mean the same in every row
}

// add reports a finding once, although a preset's value or a range's row may
// come by many times.
func (b *builder) add(f finding.Finding) {
	if b.named != nil && !slices.ContainsFunc(b.touched, b.named) {
		b.faulty = b.faulty || f.Severity == finding.Error
		return
	}
	b.found.Add(f, "", b.touched...)
}

// once makes a costly check of a text that many rows share.
func (b *builder) once(kind, text string, check func(string) error) error {
	id := [2]string{kind, text}
	err, known := b.checked[id]
	if !known {
		err = check(text)
		b.checked[id] = err
	}
	return err
}

func (b *builder) bad(code string, o Origin, message, hint string) {
	b.add(finding.Finding{Code: code, At: o.At, Value: o.Value, Message: message, Hint: hint})
}

// row reads a row, checks it and builds its machines.
func (b *builder) row(cells sheet.Row) {
	src := &source{inputs: b.inputs, basis: b.basis(builtOn{}), row: cells}
	b.secrets(src)
	name := src.written("machine")
	if name.Value == "" {
		b.unnamed(src, name)
		return
	}
	span, err := machine.ParseSpan(name.Value)
	if err != nil {
		b.bad("bad-range", name, err.Error(), "write bms-sonar-[01-12]; in a CSV, a cell with a comma in it stands in quotes")
		b.values(src)
		return
	}
	if span.Count() > MaxMachines || len(b.wanted)+span.Count() > MaxMachines {
		b.bad("too-many-machines", name, fmt.Sprintf("the sheet asks for more than %d machines", MaxMachines), "check the range, or split the sheet")
		return
	}
	if b.touched = span.Names(); len(b.touched) == 1 {
		b.touched[0], _ = inDomain(b.touched[0])
	}
	b.base(src)
	rules := b.rules(src)
	if span.Count() > 1 {
		src.span = &span
	}
	var r *row
	var common machine.Spec
	for i := range span.Count() {
		own := src
		if src.span != nil {
			of := *src
			own = &of
		}
		own.i, own.expansion = i, nil
		own.name, own.domain = inDomain(lowered(span.Name(i), rules))
		if i == 0 || own.varies {
			own.varies = false
			r, common = b.specOf(own)
			src.varies = own.varies
		}
		b.touched = []string{own.name}
		b.machine(r, own, name, common, rules)
	}
}

// inDomain takes a full domain name apart, with or without the dot at its end. What is
// none stays whole.
func inDomain(name string) (label, domain string) {
	label, domain, full := strings.Cut(strings.TrimSuffix(name, "."), ".")
	if !full || machine.CheckDomain(domain) != nil {
		return strings.TrimSuffix(name, "."), ""
	}
	return label, strings.ToLower(domain)
}

// base looks up what the values of a row build on.
func (b *builder) base(src *source) {
	var names builtOn
	reference(b, src.find("preset"), "preset", b.setup.Presets, &names.preset)
	src.basis = b.basis(names)
	if o := src.find("template"); isMachine(o.Value) {
		b.fromMachine(src, o, &names)
	} else {
		b.template(o, &names)
		if o.Value == "" {
			b.bad("missing-template", o, "no template is named", "name one in the row, its preset, or the defaults")
		}
	}
	src.basis = b.basis(names)
}

func (b *builder) basis(names builtOn) *basis {
	shared := b.bases[names]
	if shared == nil {
		shared = &basis{builtOn: names, presets: b.setup.Lineage(names.preset), said: map[string]said{}}
		b.bases[names] = shared
	}
	return shared
}

// template looks up the template that a row names, and its version.
func (b *builder) template(o Origin, names *builtOn) {
	name, number, versioned := strings.Cut(o.Value, "@")
	if versioned {
		o.Value = name
	}
	reference(b, o, "template", b.setup.Templates, &names.template)
	if !versioned || names.template == "" {
		return
	}
	v, err := machine.ParseVersion(name + "@" + number)
	source, plain := machine.ParseVersion(b.setup.TemplateSource(name))
	switch {
	case err != nil:
		b.bad("bad-template", o, err.Error(), "write NAME@1, or NAME alone for the newest version")
	case plain != nil || source.Number > 0:
		b.bad("bad-template", o, fmt.Sprintf("template %s is %s in the setup, of which there are no versions to choose from", name, b.setup.TemplateSource(name)), "write "+name)
	default:
		names.version = v.Number
	}
}

// fromMachine looks up what the values of a row build on that is cloned from a machine.
func (b *builder) fromMachine(src *source, o Origin, names *builtOn) {
	if _, _, err := machine.ParseSource(o.Value); err != nil {
		b.bad("bad-template", o, err.Error(), "write machine:NAME, or machine:NAME@CHECKPOINT")
		return
	}
	if names.template, names.cloned = src.beside(), o.Value; names.template == "" {
		b.bad("missing-template", o, fmt.Sprintf("no template says what kind of guest %s has", o.Value), "name the template that it was made from in the preset or the defaults")
	} else if _, known := b.setup.Templates[names.template]; !known {
		names.template = "" // told where it stands
	}
}

// unnamed reports a row without a machine, and what else is wrong in it: it
// makes none, and nothing follows from that.
func (b *builder) unnamed(src *source, name Origin) {
	few := !b.found.Full("missing-machine")
	b.touched = nil
	b.bad("missing-machine", name, "the row has no machine name", "write a name, or clear the whole row")
	if few { // of a column that is filled to the bottom
		b.values(src)
	}
}

// values checks the values of a row that makes no machine.
func (b *builder) values(src *source) {
	b.touched = nil
	b.base(src)
	src.span, src.name = &machine.Span{}, "x-1"
	b.specOf(src)
}

// reference checks a cell that names something in the setup.
func reference[T any](b *builder, o Origin, column string, known map[string]T, into *string) {
	if o.Value == "" {
		return
	}
	if _, ok := known[o.Value]; !ok {
		b.bad("unknown-"+column, o, fmt.Sprintf("unknown %s %q", column, o.Value), b.hint(column, o.Value, definedIn(known)))
		return
	}
	*into = o.Value
}

// hint is what a name that is not known may mean, looked up once, and only for a finding that is told.
func (b *builder) hint(kind, word string, known func() []string) string {
	if b.found.Full("unknown-"+kind) || b.named != nil && !slices.ContainsFunc(b.touched, b.named) {
		return ""
	}
	id := [2]string{kind, word}
	if _, looked := b.hints[id]; !looked {
		b.hints[id] = finding.DidYouMean(word, known())
	}
	return b.hints[id]
}

// definedIn lists the names of a part of the setup when they are asked for.
func definedIn[T any](known map[string]T) func() []string {
	return func() []string { return setup.Names(known) }
}

// machine adds a machine of a row; spec is what all of them share.
func (b *builder) machine(r *row, src *source, cell Origin, spec machine.Spec, rules []setup.NameRule) {
	w := &Wanted{Key: machine.Key{Name: src.name}, Pinned: src.version > 0, row: src}
	if r.text("site") != "" {
		reference(b, r.cell("site"), "site", b.setup.Sites, &w.Site)
	} else {
		if len(b.setup.Sites) == 1 {
			w.Site = setup.Names(b.setup.Sites)[0]
		} else {
			b.bad("missing-site", r.cell("site"), "no site is named, and the setup has several sites", b.hint("site", "", definedIn(b.setup.Sites)))
		}
	}
	b.inFolder(w, &spec, r, cell)
	if _, shared := spec.Guest.Password.Shared(); shared {
		if b.shared[spec.Guest.Password] {
			b.warn("shared-password", r.cell("password"), "this machine shares its password with others", "write generate for a password of its own")
		}
		b.shared[spec.Guest.Password] = true
	}
	if from, is := machine.SourceOf(spec.Clone.Template); is && strings.EqualFold(from.Name, src.name) {
		b.bad("bad-template", r.cell("template"), "a machine cannot be cloned from itself", "name another one, or a template")
	}
	b.domain(&spec.Guest, src.domain, r, cell)
	b.hostname(w, &spec.Guest, r)
	w.Wishes = b.wishes(r, src.i, spec.Adapters)
	w.Slim = src.commons.Slim(spec)
	b.aliases(w, r)
	if src.name != "" {
		b.names(w, r, cell, rules)
	}
	b.wanted = append(b.wanted, w)
}

// domain takes the domain of a machine whose name is a full one.
func (b *builder) domain(g *machine.Guest, domain string, r *row, cell Origin) {
	if domain == "" {
		return
	}
	if o := r.cell("domain"); o.From == "row" && !strings.EqualFold(g.Domain, domain) {
		b.bad("bad-domain", cell, fmt.Sprintf("the machine name has domain %s, the column domain has %s", domain, o.Value), "remove one of them")
	}
	g.Domain = domain
}

func (b *builder) hostname(w *Wanted, g *machine.Guest, r *row) {
	g.Hostname = strings.ToLower(w.Name)
	var o Origin
	if name := strings.TrimSuffix(r.text("hostname"), "."); name != "" {
		o = r.cell("hostname")
		o.Value, g.Hostname = name, name
		if err := machine.CheckLabel(name); err != nil {
			b.bad("bad-hostname", o, err.Error(), "write the domain in the domain column")
		} else if r.isRange() && o.Value == r.written("hostname").Value {
			b.bad("bad-hostname", o, "one host name for a range of machines", "leave it empty to use the machine names, or include {number}")
		}
	}
	full := fullNameOf(g.Hostname, g.Domain)
	if first, taken := b.hostnames[full]; taken && o.Value != "" {
		b.warn("shared-hostname", o, fmt.Sprintf("host name %s is also used by %s", strings.ToLower(g.FQDN()), first.hostnameAt()), "choose another name")
	}
	b.hostnames[full] = w
	if !kinds.Of(*g).Accounts {
		return
	}
	for _, a := range g.Accounts() {
		if strings.EqualFold(a.User, g.Hostname) {
			b.bad("bad-login", r.cell("login"), fmt.Sprintf("the account %s has the same name as its computer, which Windows does not allow", a.User), "rename one of them")
		}
	}
}
