// Package handout copies machines of sites that are folders to sticks and shares, with what whoever gets them needs to take them in.
package handout

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/diskfile"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/site"
)

// ErrRefused means that nothing more was copied.
var ErrRefused = errors.New("not handed out")

func refuse(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrRefused, fmt.Sprintf(format, args...))
}

// schema names the form of the list of what was handed out.
const schema = "mintbatch/handout/1"

// List is what was handed out to a place.
type List struct {
	Schema   string    `json:"schema"`
	Machines []Machine `json:"machines"`
	Files    []File    `json:"files"`
}

// Machine is a machine that was handed out.
type Machine struct {
	Name string `json:"name"`
	// Folder has its files, with / between folders.
	Folder   string           `json:"folder"`
	Owner    string           `json:"owner,omitempty"`
	CPUs     int              `json:"cpus"`
	Memory   int64            `json:"memory"` // in bytes
	Firmware machine.Firmware `json:"firmware,omitempty"`
	Disks    []string         `json:"disks"`
	Images   []string         `json:"images"`
	OVF      string           `json:"ovf,omitempty"`
	Cards    []machine.Card   `json:"cards"`
	// Addresses are what its guest has.
	Addresses []string `json:"addresses,omitempty"`
}

// File is a file that was handed out.
type File struct {
	Name    string    `json:"name"`
	Size    int64     `json:"size"`
	SHA256  string    `json:"sha256"`
	Changed time.Time `json:"changed"` // of the source

	from string
	base bool
}

// Plan is what is to be copied.
type Plan struct {
	Dir string
	// Copied are the machines, and Files those of them that are not there yet.
	Copied []Machine
	Files  []File
	// Size is what is to be copied, Free the room that there is, in bytes.
	Size, Free int64

	list *List
	over bool
}

// Prepare looks at what is to be copied, and at what is there. over allows to replace files that were changed since they were
// handed out.
func Prepare(ctx context.Context, d *mint.Desk, dir string, names []string, over bool) (*Plan, error) {
	switch about, err := os.Stat(dir); {
	case errors.Is(err, fs.ErrNotExist):
		return nil, refuse("there is no folder %s; make it, or mount what it is to be on", dir)
	case err != nil:
		return nil, refuse("%s", err)
	case !about.IsDir():
		return nil, refuse("%s is not a folder", dir)
	}
	known, err := d.Known(ctx, names)
	if err != nil {
		return nil, err
	}
	list, err := readList(dir)
	if err != nil {
		return nil, err
	}
	p := &Plan{Dir: dir, list: list, over: over}
	var elsewhere []string
	for _, k := range known {
		at, err := d.Sites.Site(k.Site)
		if err != nil {
			return nil, err
		}
		portable, can := at.(site.Portable)
		switch {
		case !can:
			elsewhere = append(elsewhere, k.Name)
			continue
		case k.State != proof.Made:
			return nil, refuse("%s is not made; run `mintbatch mint` first", k.Name)
		}
		if err := p.add(ctx, portable, at, k, k.ID(d.Ledger.ID)); err != nil {
			return nil, fmt.Errorf("%s: %w", k.Name, err)
		}
	}
	if len(elsewhere) > 0 && (len(names) > 0 || len(p.Copied) == 0) {
		return nil, refuse("%s: only machines of sites that are folders can be handed out", strings.Join(elsewhere, ", "))
	}
	if len(p.Copied) == 0 {
		return nil, refuse("there are no machines")
	}
	return p, p.enough()
}

// add adds a machine.
func (p *Plan) add(ctx context.Context, from site.Portable, at site.Site, k ledger.Machine, id [16]byte) error {
	files, err := from.Files(ctx, id)
	if err != nil {
		return err
	}
	is, err := at.Machine(ctx, id)
	if err != nil {
		return err
	}
	m := Machine{Name: k.Name, Owner: k.Info.Owner, CPUs: max(is.CPUs, 1), Memory: int64(is.Memory), Firmware: is.Firmware, Cards: is.Adapters, Disks: []string{}, Images: []string{}, Addresses: machine.AddressWords(k.Adapters)}
	if m.Memory == 0 {
		m.Memory = int64(machine.GiB)
	}
	for _, disk := range is.Files {
		m.Disks = append(m.Disks, filepath.Base(disk))
	}
	for _, f := range files {
		if !f.Base {
			m.Folder = path.Dir(f.Name)
			switch path.Ext(f.Name) {
			case ".iso":
				m.Images = append(m.Images, path.Base(f.Name))
			case ".ovf":
				m.OVF = path.Base(f.Name)
			}
		}
		if err := p.addFile(f); err != nil {
			return err
		}
	}
	for _, other := range p.list.Machines {
		if strings.EqualFold(other.Folder, m.Folder) && other.Name != m.Name {
			return refuse("%s has the machine %s in the folder %s", p.Dir, other.Name, m.Folder)
		}
	}
	p.Copied = append(p.Copied, m)
	return nil
}

// addFile adds a file, unless it is there already as it is to be.
func (p *Plan) addFile(f site.PortableFile) error {
	if slices.ContainsFunc(p.Files, func(other File) bool { return other.Name == f.Name }) {
		return nil // a base of several
	}
	about, err := os.Stat(f.Path)
	if err != nil {
		return err
	}
	one := File{Name: f.Name, Size: about.Size(), Changed: about.ModTime().UTC(), from: f.Path, base: f.Base}
	there, err := os.Lstat(p.at(f.Name))
	if errors.Is(err, os.ErrNotExist) {
		p.Files = append(p.Files, one)
		return nil
	}
	if err != nil {
		return err
	}
	i := slices.IndexFunc(p.list.Files, func(of File) bool { return of.Name == f.Name })
	switch {
	case !there.Mode().IsRegular():
		return refuse("%s is there already and is no file", p.at(f.Name))
	case i < 0 && !p.over:
		return refuse("%s is there already, and was not handed out from here; give --force to replace it", p.at(f.Name))
	case i >= 0 && !untouched(there, p.list.Files[i]) && !p.over:
		return refuse("%s was changed since it was handed out; give --force to replace it", p.at(f.Name))
	case i >= 0 && untouched(there, p.list.Files[i]) && p.list.Files[i].Size == one.Size && sameTime(p.list.Files[i].Changed, one.Changed):
		return nil
	case f.Base && i >= 0 && !p.over:
		return refuse("%s is another disk than that which was handed out, and machines there depend on it; hand out to another folder, or give --force", p.at(f.Name))
	}
	p.Files = append(p.Files, one)
	return nil
}

// untouched reports whether a file is as it was when it was handed out: copies have the times of what they are copies of.
func untouched(is os.FileInfo, was File) bool {
	return is.Size() == was.Size && sameTime(is.ModTime(), was.Changed)
}

// sameTime compares times as file systems of sticks keep them, to two seconds.
func sameTime(a, b time.Time) bool { return a.Sub(b).Abs() <= 2*time.Second }

func (p *Plan) at(name string) string { return filepath.Join(p.Dir, filepath.FromSlash(name)) }

// spare is the room that is left for lists, scripts and the file system's own.
const spare = 8 << 20

// enough is an error if there is not enough room.
func (p *Plan) enough() error {
	_, free, err := diskfile.Room(p.Dir)
	if err != nil {
		return err
	}
	holes := diskfile.KeepsHoles(p.Dir)
	for _, f := range p.Files {
		if holes {
			p.Size += min(f.Size, diskfile.StoredIn(f.from))
		} else {
			p.Size += f.Size
		}
	}
	if p.Free = free; p.Size+spare > free && len(p.Files) > 0 {
		return refuse("%s has %s free, and %s needs %s", p.Dir, machine.Size(free).Rough(), finding.Plural(len(p.Copied), "machine"), machine.Size(p.Size+spare).Rough())
	}
	return nil
}
