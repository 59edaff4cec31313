package folder

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/diskfile"
)

// schema names the form of the mark file of a machine.
const schema = "mintbatch/folder-machine/1"

// record is what the mark file of a machine says.
type record struct {
	Schema string    `json:"schema"`
	ID     uuid.UUID `json:"id"`
	Name   string    `json:"name"`
	// Place is where its folder is, from that of the site on, with / between folders.
	Place string        `json:"place"`
	Mark  contract.Mark `json:"mark"`
	// Cloned is set once the system disk is whole.
	Cloned bool `json:"cloned"`
	// Kept means that the machine was removed, and its disks are not to be deleted.
	Kept bool `json:"kept,omitempty"`

	machine.Shape
	Firmware machine.Firmware `json:"firmware,omitempty"`
	// Hardware is what the setup says of the machine around the disks.
	Hardware *machine.Hardware `json:"hardware,omitempty"`
	Cards    []machine.Card    `json:"cards,omitempty"`
	Format   string            `json:"format"`
	// Parent is what a linked clone depends on.
	Parent *parent `json:"parent,omitempty"`
	// Identity is that of the system disk, by which children would know it.
	Identity string `json:"identity,omitempty"`
}

// parent is a disk that must not change any more.
type parent struct {
	// Path goes from the folder of the machine on, with / between folders.
	Path     string    `json:"path"`
	Size     int64     `json:"size"`
	Changed  time.Time `json:"changed"`
	Identity string    `json:"identity,omitempty"`
}

// folder is the folder of a machine.
type folder struct {
	record
	dir string
}

func (r *record) diskName(n int) string {
	name := r.Name
	if n > 0 {
		name = fmt.Sprintf("%s-data%d", r.Name, n)
	}
	return name + "." + r.Format
}

func (r *record) seedName() string  { return r.Name + "-seed.iso" }
func (r *record) filesName() string { return r.Name + "-files.iso" }

func (m *folder) path(name string) string { return filepath.Join(m.dir, name) }

// system is the path of its system disk.
func (m *folder) system() string { return m.path(m.diskName(0)) }

// write writes the mark file.
func (m *folder) write() error {
	m.Schema = schema
	return writeFile(m.path(markName), 0o644, func(w io.Writer) error {
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		return e.Encode(m.record)
	})
}

// sketch writes the mark file of a machine of which there is nothing to lose yet: it need not outlive the system.
func (m *folder) sketch() error {
	m.Schema = schema
	text, err := json.Marshal(m.record)
	if err != nil {
		return err
	}
	return changing(m.path(markName), func() error { return os.WriteFile(m.path(markName), text, 0o644) })
}

// read reads the mark file of a folder; fs.ErrNotExist if it has none.
func read(dir string) (*folder, error) {
	path := filepath.Join(dir, markName)
	text, err := readText(path)
	if err != nil {
		return nil, err
	}
	m := &folder{dir: dir}
	if err := json.Unmarshal(text, &m.record); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	if m.Schema != schema || m.ID == uuid.Nil || m.Name == "" || strings.ContainsAny(m.Name, `/\`) {
		return nil, fmt.Errorf("%s is not the mark of a machine", path)
	}
	return m, nil
}

// placed reports whether the machine has its own name, by which its user finds it.
func (m *folder) placed() bool { return !strings.HasPrefix(filepath.Base(m.dir), prefix) }

func (m *folder) keptError() error {
	return refused("its disks were kept and are never deleted: %s", m.dir)
}

// parentFile is where the parent is.
func (m *folder) parentFile() string {
	return filepath.Join(m.dir, filepath.FromSlash(m.Parent.Path))
}

// parentOf notes what a parent is.
func parentOf(d *diskfile.Disk, from string) (*parent, error) {
	about, err := os.Stat(d.Paths[0])
	if err != nil {
		return nil, err
	}
	rel, err := filepath.Rel(from, d.Paths[0])
	if err != nil {
		return nil, err
	}
	return &parent{Path: filepath.ToSlash(rel), Size: about.Size(), Changed: about.ModTime().UTC(), Identity: d.Images[0].Identity}, nil
}

// changedSince says in what a parent is not what it was; empty if in nothing.
func (p *parent) changedSince(path string) string {
	about, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Sprintf("the disk that it depends on is gone: %s", path)
	case err != nil:
		return fmt.Sprintf("the disk that it depends on cannot be read: %s", err)
	case about.Size() != p.Size:
		return fmt.Sprintf("the disk that it depends on was changed: %s has %d bytes, not %d", path, about.Size(), p.Size)
	case about.ModTime().Sub(p.Changed).Abs() > 2*time.Second: // as some file systems keep times
		return fmt.Sprintf("the disk that it depends on was changed: %s was written at %s, not %s", path, about.ModTime().UTC().Format(time.RFC3339), p.Changed.Format(time.RFC3339))
	}
	return ""
}
