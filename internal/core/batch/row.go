package batch

import (
	"fmt"
	"strings"

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/column"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

// row is what the cells of a row say: each was read once, into the spec where its text
// alone decides.
type row struct {
	*source
	texts  []string // by the place of the column
	places map[string]int
	spec   machine.Spec
}

// text returns what counts for a column, its placeholders expanded.
func (r *row) text(id string) string { return r.texts[r.places[id]] }

// cell returns the text of a column with where it came from.
func (r *row) cell(id string) Origin { return r.find(id) }

// read reads all cells of a row. What it returns is good until the next is read.
func (b *builder) read(src *source) *row {
	usual := b.usual(src)
	r := &b.reading
	*r = row{source: src, texts: b.texts, places: b.places, spec: usual.spec}
	for k, c := range b.columns {
		text, read := usual.texts[k], usual.read[k]
		if c.cell >= 0 && src.row.Cells[c.cell] != "" {
			text, read = src.row.Cells[c.cell], !c.Reads()
		}
		if strings.IndexByte(text, '{') >= 0 {
			text = src.find(c.id).Value
		}
		r.texts[k] = text
		if read {
			continue
		}
		for _, p := range c.Read(&r.spec, text) {
			b.bad(c.Finding(), r.cell(c.id), p.Message, p.Hint)
		}
	}
	return r
}

// usual is what counts where the cells of a row are empty.
type usual struct {
	texts []string // by the place of the column
	spec  machine.Spec
	read  []bool // the columns whose texts are in the spec, or are not to be
}

// usual reads what a row's presets, its template and the defaults say, once for all rows
// that have the same. What depends on the row, or is wrong, is read in each.
func (b *builder) usual(src *source) *usual {
	shared := b.basis(builtOn{preset: src.preset, template: src.template})
	if shared.usual != nil {
		return shared.usual
	}
	setup := *src.inputs
	setup.index = nil
	without := *src
	without.inputs = &setup
	u := &usual{texts: make([]string, len(b.columns)), read: make([]bool, len(b.columns))}
	for k, c := range b.columns {
		u.texts[k] = without.written(c.id).Value
		u.read[k] = !c.Reads() || strings.IndexByte(u.texts[k], '{') < 0 && c.Read(&u.spec, u.texts[k]) == nil
	}
	shared.usual = u
	return u
}

// specOf reads a row, checks what belongs together in it, and builds what all of its
// machines have in common.
func (b *builder) specOf(src *source) (*row, machine.Spec) {
	r := b.read(src)
	template := b.setup.Templates[src.template]
	spec := &r.spec
	spec.Template, spec.Clone.Template = src.template, b.setup.TemplateSource(src.template)
	if src.version > 0 {
		spec.Clone.Template = machine.Version{Template: spec.Clone.Template, Number: src.version}.String()
	}
	if src.cloned != "" {
		spec.Template, spec.Clone.Template = src.cloned, src.cloned
	}
	spec.Preset = src.preset
	spec.Clone.Hardware = hardware(template)
	spec.Adapters = b.adapters(r)
	b.enrol(r)
	spec.Clone.DiskKind = column.DiskKind(r.text("disk"))
	b.guest(r)
	b.joins(r)
	b.check(r)
	spec.DropSeed = dropsSeed(template, *spec)
	return r, *spec
}

// hardware is what a template says of the machine around the disk; nil if it says nothing.
func hardware(template setup.Template) *machine.Hardware {
	h := machine.Hardware(template.Hardware)
	if template.Volume != "" && h.Clock == "" && template.Guest == setup.Windows {
		h.Clock = machine.Local
	}
	if h == (machine.Hardware{}) {
		return nil
	}
	own := h // only this one is kept
	return &own
}

// check holds cells against each other and against the template.
func (b *builder) check(r *row) {
	if r.spec.Clone.DiskKind == machine.FullDisk && r.spec.Clone.Kind == machine.Linked {
		b.bad("bad-size", r.cell("disk"), "the disk of a linked clone cannot take its room at once", "write clone: full in the row, or leave out :full")
	}
	if i := r.spec.Info; i.Keep != "" && i.Keep < i.Until {
		b.bad("bad-date", r.cell("keep"), fmt.Sprintf("the disks would go on %s, before the machine is not needed any more (until %s)", i.Keep, i.Until), "write a later day, or leave it empty")
	}
	if h := r.spec.Clone.Hardware; h != nil && h.SecureBoot == machine.SwitchOn && r.spec.Clone.Firmware == machine.BIOS {
		b.bad("bad-firmware", r.cell("firmware"), "its template asks for secure boot, which is a part of UEFI", "write uefi, or leave it empty")
	}
	if h := r.spec.Clone.Hardware; h != nil && h.Sockets > 0 && r.spec.Shape.CPUs%h.Sockets != 0 {
		b.bad("bad-cpus", r.cell("cpus"), fmt.Sprintf("%d CPUs cannot be divided evenly among %d sockets", r.spec.Shape.CPUs, h.Sockets), "")
	}
	if o := r.cell("confirm"); r.spec.Guest.Confirm == machine.CallHome {
		switch kind := kinds.Of(r.spec.Guest); {
		case b.setup.CallHome.Base() == "":
			b.bad("bad-confirm", o, "the setup does not say where guests can call", "write call_home: {listen: ADDRESS:PORT} in the setup, with an address of this computer")
		case !kind.Reads():
			b.bad("bad-confirm", o, "a guest that reads no answers cannot be told to call home", "leave it to its site")
		}
	}
	if r.spec.Power == machine.Off && r.spec.KeepsAt(false) {
		b.bad("bad-checkpoint", r.cell("checkpoint"), "a machine that is never started (power: off) is not confirmed", "write power: on or confirm-then-off, or leave out @confirmed")
	}
	if r.spec.Guest.Firstboot != nil && len(r.spec.Guest.Carry) > 0 && r.spec.KeepsAt(true) {
		b.bad("bad-checkpoint", r.cell("checkpoint"), "a checkpoint from before the first start does not bring back the big files (carry) that the first boot needs", "keep one at @confirmed instead")
	}
	b.checkGuest(r)
	b.checkContents(r)
}

// dropsSeed reports whether a seed is removed once its guest is confirmed: every one
// contains secrets. One that a checkpoint refers to stays, if it contains no more than
// the guest keeps itself.
func dropsSeed(template setup.Template, spec machine.Spec) bool {
	switch {
	case !kinds.Of(spec.Guest).Reads() || template.Seed == setup.KeepSeed:
		return false
	case template.Seed == setup.DropSeed:
		return true
	}
	return !spec.KeepsAt(true) || kinds.Of(spec.Guest).InClear(spec.Guest)
}

// secrets warns of what should not be in a sheet at all.
func (b *builder) secrets(src *source) {
	for i, cell := range src.row.Cells {
		if b.table.Columns[i].Name == "password" || !finding.LooksLikeSecret(cell) {
			continue
		}
		o := Origin{At: b.table.Position(src.row, i)}
		if finding.LooksLikeLicence(cell) {
			b.warn("licence-in-clear", o, "the cell contains a licence key in clear text", "seal it with `mintbatch secret set NAME` and write secret:NAME")
		} else {
			b.warn("secret-in-clear", o, "the cell looks like a secret in clear text", "remove it from the sheet")
		}
	}
}

// readColumn is a column that is read in every row.
type readColumn struct {
	column.Column
	id   string
	cell int // its place in the row; -1 if the sheet does not have it, or its value is fixed
}

// columnsOf lists the columns of a sheet, those of as many adapters as sheet or setup
// speak of, and the place of each.
func columnsOf(table *sheet.Table, index map[string]int, adapters int) (all []readColumn, places map[string]int) {
	places = map[string]int{}
	add := func(c column.Column, id string) {
		cell, has := index[id]
		if _, fixed := table.Fixed[id]; fixed || !has {
			cell = -1
		}
		places[id] = len(all)
		all = append(all, readColumn{c, id, cell})
	}
	for _, name := range column.Names() {
		c, _ := column.Named(name)
		add(c, name)
		for n := 2; c.PerAdapter && n <= adapters; n++ {
			add(c, column.ID(name, n))
		}
	}
	return all, places
}
