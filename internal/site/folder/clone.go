package folder

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/filename"
	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/formats"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/diskfile"
	"mintbatch/internal/site"
)

// Clone implements site.Site. The machine gets a folder with a name of its own only once it is whole; until then its folder is
// known by its identity, beside where it will be, so that what a child says of its parent is true before and after.
func (s *Site) Clone(ctx context.Context, o contract.CloneOrder) (contract.Task, error) {
	return s.act(ctx, o.Identity, func(ctx context.Context, share func(float64)) error { return s.clone(ctx, o, share) })
}

func (s *Site) clone(ctx context.Context, o contract.CloneOrder, share func(float64)) error {
	found, err := s.recent() // which notes where machines are
	if err == nil {
		err = found.unclear[o.Identity]
	}
	if err != nil {
		return err
	}
	switch m := s.lastPlace(o.Identity); {
	case m == nil && s.wasKept(o.Identity):
		return refused("the disks of an earlier machine %s were kept and are never deleted", o.Name)
	case m == nil:
	case m.Kept:
		return m.keptError()
	case m.Cloned:
		return nil
	default: // what an earlier try has left
		if err := removeAll(m.dir); err != nil {
			return err
		}
	}
	group, err := s.group(o.Folder)
	if err != nil {
		return err
	}
	if filename.Same(o.Name, templatesName) {
		return refused("a machine of a folder cannot be called %s", o.Name)
	}
	if err := s.claimName(o.Name, o.Identity, o.Mark); err != nil {
		return err
	}
	m := &folder{record: record{ID: o.Identity, Name: o.Name, Mark: o.Mark, Format: s.Format, Firmware: o.Firmware, Hardware: o.Hardware, Cards: o.Adapters}, dir: filepath.Join(group, prefix+o.Identity.String())}
	m.Place = s.home(m)
	if err := removeAll(m.dir); err != nil { // begun, and not marked
		return err
	}
	if err := makeFolder(m.dir); err != nil {
		return err
	}
	if err := m.sketch(); err != nil {
		return err
	}
	s.noteAt(m.ID, m.dir)
	t, err := s.template(o.Template)
	if err != nil {
		return err
	}
	defer t.Close()
	m.CPUs, m.Memory = t.about.CPUs, t.about.Memory
	if m.Firmware == "" {
		m.Firmware = t.about.Firmware
	}
	size := max(t.Virtual(), int64(o.Shape.Disk))
	if o.Kind == machine.Linked {
		err = s.child(ctx, m, t, size)
	} else {
		err = s.copyDisk(ctx, m, t.Disk, size, o.DiskKind, share)
	}
	if err != nil {
		return err
	}
	m.Disk = machine.Size(size)
	if err := s.setShape(ctx, m, o.Shape); err != nil {
		return err
	}
	m.Cloned = true
	return m.write()
}

// group is the folder that machines of a folder of the site are in.
func (s *Site) group(name string) (string, error) {
	dir := s.Path
	for part := range strings.SplitSeq(name, "/") {
		if part == "" {
			continue
		}
		if err := filename.Check(part); err != nil || dir == s.Path && filename.Same(part, templatesName) {
			return "", fmt.Errorf("%w: the folder %s: %w", site.ErrRefused, name, errors.Join(err, errNotForMachines))
		}
		dir = filepath.Join(dir, part)
	}
	if strings.Count(name, "/") >= deepest {
		return "", refused("the folder %s is more than %d deep", name, deepest)
	}
	return dir, makeFolder(dir)
}

var errNotForMachines = errors.New("it cannot have machines")

// identityOf is that of a disk of a machine.
func identityOf(id uuid.UUID, n int) uuid.UUID { return uuid.NewSHA1(id, fmt.Append(nil, "disk ", n)) }

// extended is a disk that is larger than its content.
type extended struct {
	image.Chain
	size int64
}

// Length implements image.Layer.
func (e extended) Length() int64 { return e.size }

// Run implements image.Layer.
func (e extended) Run(at int64) (image.Run, error) {
	if is := e.Chain.Length(); at >= is {
		return image.Run{State: image.Zero, Length: e.size - at}, nil
	}
	return e.Chain.Run(at)
}

// copyDisk makes the system disk of a full clone.
func (s *Site) copyDisk(ctx context.Context, m *folder, from *diskfile.Disk, size int64, kind machine.DiskKind, share func(float64)) error {
	done := func(at int64) { share(float64(at) / float64(size)) }
	one := from.Images[0]
	// a format without identities of its own is copied as it is
	if plain := s.Format == formats.Raw || s.Format == "qcow2"; plain && one.Format == s.Format && len(from.Images) == 1 && size == from.Length() && kind != machine.FullDisk {
		return changing(m.system(), func() error { return diskfile.Copy(ctx, m.system(), from.Paths[0], done) })
	}
	order := image.Order{Identity: identityOf(m.ID, 0)}
	if kind == machine.FullDisk && s.Format != "qcow2" {
		order.Variant = image.Fixed
	}
	m.Identity = order.Identity.String()
	return s.writeDisk(ctx, m.system(), order, image.Chain{extended{from.Chain, size}}, nil, done)
}

// child makes the system disk of a linked clone.
func (s *Site) child(ctx context.Context, m *folder, t *template, size int64) error {
	one := t.Images[0]
	switch {
	case s.Format == formats.Raw:
		return fmt.Errorf("%w: disks of the format raw cannot depend on others; write clone: full", site.ErrRefused)
	case one.Format != s.Format:
		return refused("the disk of template %s is %s, not %s, and a linked clone has the format of its template; make it a template with `mintbatch template make`, or write clone: full", t.about.Name, one.Format, s.Format)
	case size != t.Virtual() && s.Format != "qcow2":
		return refused("a linked clone of the format %s has a disk as large as its template's (%s)", s.Format, machine.Size(t.Virtual()))
	}
	if err := t.protect(); err != nil {
		return err
	}
	p, err := parentOf(t.Disk, m.dir)
	if err != nil {
		return err
	}
	m.Parent, m.Identity = p, identityOf(m.ID, 0).String()
	order := image.Order{Identity: identityOf(m.ID, 0), ParentName: p.Path, Parent: one}
	return s.writeDisk(ctx, m.system(), order, diskfile.Empty(size), nil, nil)
}

// setShape sets what hardware a machine has, and makes its data disks. Disks only grow in number.
func (s *Site) setShape(ctx context.Context, m *folder, shape machine.Shape) error {
	if shape.CPUs > 0 {
		m.CPUs = shape.CPUs
	}
	if shape.Memory > 0 {
		m.Memory = shape.Memory
	}
	if m.hasGrown(0, shape.Disk) {
		m.Disk = shape.Disk
	}
	if shape.Disk > 0 && shape.Disk != m.Disk {
		if err := s.resize(ctx, m, shape.Disk); err != nil {
			return err
		}
	}
	if len(shape.Disks) < len(m.Disks) && len(shape.Disks) > 0 {
		return refused("%s has %d data disks, and none is taken away from it", m.Name, len(m.Disks))
	}
	for n, d := range shape.Disks {
		if n < len(m.Disks) {
			if m.hasGrown(n+1, d.Size) {
				m.Disks[n].Size = d.Size
			}
			if m.Disks[n].Size != d.Size {
				return refused("data disk %d of %s has %s; enlarge it with the hypervisor that runs it, or make the machine again with `mintbatch remake`", n+1, m.Name, m.Disks[n].Size)
			}
			continue
		}
		path := m.path(m.diskName(n + 1))
		if err := remove(path); err != nil { // of an earlier try
			return err
		}
		order := image.Order{Identity: identityOf(m.ID, n+1)}
		if d.Kind == machine.FullDisk && s.Format != "qcow2" {
			order.Variant = image.Fixed
		}
		if err := s.writeDisk(ctx, path, order, diskfile.Empty(int64(d.Size)), nil, nil); err != nil {
			return err
		}
		m.Disks = append(m.Disks, machine.Disk{Size: d.Size, Kind: d.Kind})
	}
	return nil
}

// hasGrown reports whether somebody has made a disk larger, to this size.
func (m *folder) hasGrown(n int, size machine.Size) bool {
	if size <= m.sizes()[n] {
		return false
	}
	d, err := diskfile.Open(m.path(m.diskName(n)), m.Format)
	if err != nil {
		return false
	}
	defer d.Close()
	return d.Virtual() == int64(size)
}

// resize makes the system disk of a machine larger that nobody has got yet.
func (s *Site) resize(ctx context.Context, m *folder, size machine.Size) error {
	switch {
	case m.placed():
		return refused("%s may be running, which is not known here, so its disk stays as large as it is (%s); enlarge it with the hypervisor that runs it, or make the machine again with `mintbatch remake`", m.Name, m.Disk)
	case size < m.Disk:
		return refused("a disk cannot shrink (%s)", m.Disk)
	case m.Parent != nil && s.Format != "qcow2":
		return refused("a linked clone of the format %s has a disk as large as its template's (%s)", s.Format, m.Disk)
	}
	d, err := diskfile.Open(m.system(), m.Format)
	if err != nil {
		return err
	}
	defer d.Close()
	order := image.Order{Identity: identityOf(m.ID, 0), Name: m.diskName(0)}
	from, below := image.Chain{extended{d.Chain, int64(size)}}, image.Chain(nil)
	if m.Parent != nil {
		order.Parent, order.ParentName, below = d.Images[1], m.Parent.Path, d.Chain[1:]
	}
	part := filepath.Join(m.dir, ".larger")
	if err := removeAll(part); err != nil {
		return err
	}
	if err := s.writeDisk(ctx, part, order, from, below, nil); err != nil {
		return err
	}
	m.Disk = size
	return rename(part, m.system())
}
