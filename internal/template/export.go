package template

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"github.com/google/uuid"

	"mintbatch/internal/core/answers/ovfenv"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/image"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/ovf"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/output"
	"mintbatch/internal/ova"
	"mintbatch/internal/site"
)

// Exporting is a machine or a template that is to be written as a package.
type Exporting struct {
	ovf.Machine
	Site string
	// Size is that of its disk.
	Size machine.Size

	disk image.Chain
	id   uuid.UUID
}

// PrepareExport opens the disk of a machine that is shut off, or of a template, at a site.
func PrepareExport(ctx context.Context, d *mint.Desk, name, where string) (*Exporting, error) {
	known, err := d.Known(ctx, []string{name})
	if err == nil && len(known) == 1 && (where == "" || known[0].Site == where) {
		return machineOf(ctx, d, known[0])
	}
	if _, is := d.Setup.Templates[name]; !is {
		if v, versioned := machine.VersionOf(name); !versioned || d.Setup.Templates[v.Template].Guest == "" {
			return nil, cmp.Or(err, fmt.Errorf("%w machine or template: %q", mint.ErrUnknown, name))
		}
	}
	if where, err = siteOf(d, where); err != nil {
		return nil, err
	}
	answer, err := d.Sites.Ask(ctx, where)
	if err != nil {
		return nil, err
	}
	v, versioned := machine.VersionOf(name)
	source := d.Setup.TemplateSource(cmp.Or(v.Template, name))
	if n := cmp.Or(v.Number, answer.Newest()[source]); versioned || n > 0 {
		source = machine.Version{Template: source, Number: n}.String()
	}
	e := &Exporting{Site: where, Machine: ovf.Machine{Name: name}, id: uuid.NewSHA1(d.Ledger.ID, []byte(where+"/"+source))}
	if t := answer.Template(source); t != nil {
		e.CPUs, e.Memory, e.Firmware, e.Notes = t.CPUs, t.Memory, t.Firmware, t.Notes
	}
	return e, e.open(ctx, d, source)
}

// machineOf is a machine that was made.
func machineOf(ctx context.Context, d *mint.Desk, k ledger.Machine) (*Exporting, error) {
	key, id := k.Key, k.ID(d.Ledger.ID)
	m, err := d.Sites.Machine(ctx, key.Site, id)
	if err != nil {
		return nil, err
	}
	if m.Power == machine.On {
		return nil, refuse("%s is running; shut it down with `mintbatch power off %s`", key.Name, key)
	}
	e := &Exporting{Site: key.Site, id: id, Machine: ovf.Machine{Name: key.Name, CPUs: m.CPUs, Memory: m.Memory, Firmware: m.Firmware}}
	if m.Mark != nil {
		e.Notes = m.Mark.Notes
	}
	if k.Spec().Guest.Answers == ovfenv.Name && k.Spec().Guest.Firstboot != nil {
		told := k.Spec().Guest.Properties
		for _, key := range slices.Sorted(maps.Keys(told)) {
			e.Properties = append(e.Properties, ovf.Property{Key: key, Value: told[key]})
		}
	}
	for _, c := range m.Adapters {
		e.Cards = append(e.Cards, ovf.Card{Network: c.Network, MAC: c.MAC})
		e.Networks = appendNew(e.Networks, c.Network)
	}
	switch n := len(m.Disks); {
	case n == 1:
		e.Remarks = append(e.Remarks, "its data disk is not in the package")
	case n > 1:
		e.Remarks = append(e.Remarks, fmt.Sprintf("its %d data disks are not in the package", n))
	}
	return e, e.open(ctx, d, machine.SourceName(key.Name))
}

func appendNew(all []string, one string) []string {
	for _, is := range all {
		if is == one {
			return all
		}
	}
	return append(all, one)
}

// open opens the disk.
func (e *Exporting) open(ctx context.Context, d *mint.Desk, source string) error {
	at, err := d.Sites.Site(e.Site)
	if err != nil {
		return err
	}
	reader, can := at.(site.DiskReader)
	if !can {
		return refuse("site %s: this kind of site cannot read disks", e.Site)
	}
	disk, _, err := reader.Disk(ctx, source)
	if err != nil {
		return fmt.Errorf("%s: %w", e.Name, err)
	}
	e.CPUs, e.Memory = cmp.Or(e.CPUs, 1), cmp.Or(e.Memory, machine.GiB)
	if chain, is := disk.ReaderAt.(image.Chain); is {
		e.disk = chain
	} else {
		e.disk = image.Chain{image.Raw{ReaderAt: disk.ReaderAt, Size: disk.Size}}
	}
	e.Size = machine.Size(disk.Size)
	return nil
}

// To writes the package.
func (e *Exporting) To(ctx context.Context, d *mint.Desk, path string, over output.Over, done func(at int64)) error {
	return d.Guard().Fill(path, over, 0o644, func(dir string) error {
		f, err := os.OpenFile(filepath.Join(dir, filepath.Base(path)), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
		if err != nil {
			return err
		}
		defer f.Close() //nolint:errcheck // it was synced
		return ova.Write(ctx, f, e.Machine, e.disk, e.id, done)
	})
}

// openPackage opens the disk of a package that a template is made of, and fills in the order what the package says.
func openPackage(d *mint.Desk, o *MakeOrder) (*source, *ovf.Machine, error) {
	p, err := ova.Open(o.Package)
	if err != nil {
		return nil, nil, err
	}
	fail := func(err error) (*source, *ovf.Machine, error) {
		p.Close()
		return nil, nil, err
	}
	if len(p.Disks) == 0 {
		return fail(refuse("%s: the machine in it has no disk", o.Package))
	}
	for _, d := range p.Disks[1:] {
		switch {
		case d.File == "":
		case o.FirstDisk:
			p.Remarks = append(p.Remarks, fmt.Sprintf("its disk %s is not taken", d.File))
		default:
			return fail(refuse("%s: the machine in it has %d disks, and a template has one; take only %s, which it starts from, with --first-disk", o.Package, len(p.Disks), p.Disks[0].File))
		}
	}
	chain, err := p.Disk(p.Disks[0])
	if err != nil {
		return fail(fmt.Errorf("%s: %w", o.Package, err))
	}
	if size := int64(p.Disks[0].Size); size > chain.Length() {
		p.Remarks = append(p.Remarks, fmt.Sprintf("its disk has %s, not %s as its description says", machine.Size(chain.Length()), machine.Size(size)))
	}
	for _, n := range p.Networks {
		p.Remarks = append(p.Remarks, networkRemark(d.Setup, n))
	}
	p.Remarks = append(p.Said, p.Remarks...)
	size := (chain.Length() + 511) / 512 * 512
	return &source{chain, size, p.Close}, p.Machine, nil
}

// networkRemark says which network of the setup is meant by one of a package.
func networkRemark(s *setup.Setup, name string) string {
	if n := networkOf(s, name); n != "" {
		return fmt.Sprintf("its network %s is network %s of the setup", name, n)
	}
	return fmt.Sprintf("its network %s is none of the setup: rows name their own, or a network of the setup gets it as its source", name)
}

// fill takes from a package what neither the setup nor a preset says.
func fill(order *contract.TemplateOrder, m *ovf.Machine) {
	if m == nil {
		return
	}
	order.CPUs, order.Memory = cmp.Or(order.CPUs, m.CPUs), cmp.Or(order.Memory, m.Memory)
}
