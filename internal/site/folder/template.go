package folder

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/disk"
	"mintbatch/internal/core/filename"
	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/formats"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/diskfile"
	"mintbatch/internal/site"
)

// templateMark is the mark file of a template that was made by this program.
const templateMark = "template.json"

// templateRecord is what it says.
type templateRecord struct {
	ID       uuid.UUID        `json:"id"`
	CPUs     int              `json:"cpus,omitempty"`
	Memory   machine.Size     `json:"memory,omitempty"`
	Firmware machine.Firmware `json:"firmware,omitempty"`
	Disk     string           `json:"disk"` // the name of its file
	Version  contract.Version `json:"version"`
}

// template is a template that was opened.
type template struct {
	*diskfile.Disk
	about contract.Template
}

// templateFiles lists templates: the disk image of each, by its name, and what is known of those that were made here.
func (s *Site) templateFiles() (files map[string]string, made map[string]*templateRecord, err error) {
	files, made = map[string]string{}, map[string]*templateRecord{}
	dir := filepath.Join(s.Path, templatesName)
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return files, made, nil
	}
	if err != nil {
		return nil, nil, err
	}
	for _, e := range entries {
		path := filepath.Join(dir, e.Name())
		if hidden(e.Name()) {
			continue
		}
		if !e.IsDir() {
			if _, is := formats.ByEnding(e.Name()); is {
				files[strings.TrimSuffix(e.Name(), filepath.Ext(e.Name()))] = path
			}
			continue
		}
		if t, err := readTemplate(path); err == nil {
			files[t.Version.Name()], made[t.Version.Name()] = filepath.Join(path, t.Disk), t
		}
	}
	return files, made, nil
}

func readTemplate(dir string) (*templateRecord, error) {
	text, err := readText(filepath.Join(dir, templateMark))
	if err != nil {
		return nil, err
	}
	t := &templateRecord{}
	if err := json.Unmarshal(text, t); err != nil {
		return nil, err
	}
	if t.Disk == "" || filepath.Base(t.Disk) != t.Disk {
		return nil, fmt.Errorf("%s names no disk", dir)
	}
	return t, nil
}

// templates tells of all templates.
func (s *Site) templates(linked map[string]int) ([]contract.Template, error) {
	files, made, err := s.templateFiles()
	if err != nil {
		return nil, err
	}
	all := []contract.Template{}
	for name, path := range files {
		t := contract.Template{Name: name, Store: Store}
		n := linked[path]
		t.Linked = &n
		if r := made[name]; r != nil {
			t.CPUs, t.Memory, t.Firmware, t.Version, t.Notes = r.CPUs, r.Memory, r.Firmware, &r.Version, r.Version.Notes
		}
		t.Used, t.Changed = machine.Size(diskfile.StoredIn(path)), changed(path)
		d, err := diskfile.Open(path, "")
		if err != nil {
			t.Problem = err.Error()
		} else {
			t.Disk, t.Format = machine.Size(d.Virtual()), d.Images[0].Format
			d.Close()
		}
		all = append(all, t)
	}
	slices.SortFunc(all, func(a, b contract.Template) int { return strings.Compare(a.Name, b.Name) })
	return all, nil
}

// changed says when a file was last written.
func changed(path string) string {
	about, err := os.Stat(path)
	if err != nil {
		return ""
	}
	return about.ModTime().UTC().Format(time.RFC3339Nano)
}

// template opens a template: by its name, as folder/FILE, or the disk of machine:NAME.
func (s *Site) template(name string) (*template, error) {
	files, made, err := s.templateFiles()
	if err != nil {
		return nil, err
	}
	t := &template{about: contract.Template{Name: name}}
	path, is := files[name]
	if file, bare := strings.CutPrefix(name, Store+"/"); bare && !is {
		path, is = filepath.Join(s.Path, templatesName, file), filename.Check(file) == nil
	}
	if source, of := machine.SourceOf(name); of {
		if source.Checkpoint != "" {
			return nil, refused("a folder keeps no checkpoints (%s)", name)
		}
		m, err := s.named(source.Name)
		if err != nil {
			return nil, err
		}
		path, is = m.system(), true
		t.about.CPUs, t.about.Memory, t.about.Firmware = m.CPUs, m.Memory, m.Firmware
	}
	if !is {
		return nil, fmt.Errorf("%w: no template %s in %s", site.ErrNotFound, name, filepath.Join(s.Path, templatesName))
	}
	if r := made[name]; r != nil {
		t.about.CPUs, t.about.Memory, t.about.Firmware = r.CPUs, r.Memory, r.Firmware
	}
	if t.Disk, err = diskfile.Open(path, ""); errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %w", site.ErrNotFound, err)
	}
	return t, err
}

// named finds a machine by its name.
func (s *Site) named(name string) (*folder, error) {
	found, err := s.look()
	if err != nil {
		return nil, err
	}
	for _, m := range found.machines {
		if filename.Same(m.Name, name) && !m.Kept {
			return m, found.unclear[m.ID]
		}
	}
	return nil, fmt.Errorf("%w: no machine %s", site.ErrNotFound, name)
}

// protect makes the disk of a template read-only, on which clones will depend.
func (t *template) protect() error {
	about, err := os.Stat(t.Paths[0])
	if err != nil || about.Mode().Perm()&0o222 == 0 {
		return err
	}
	return setMode(t.Paths[0], about.Mode().Perm()&^0o222)
}

// Disk implements site.DiskReader.
func (s *Site) Disk(ctx context.Context, name string) (disk.Disk, string, error) {
	if err := s.reach(); err != nil {
		return disk.Disk{}, "", err
	}
	t, err := s.template(name)
	if err != nil {
		return disk.Disk{}, "", explain(err)
	}
	context.AfterFunc(ctx, t.Close)
	return disk.Disk{ReaderAt: t.Chain, Size: t.Virtual()}, changed(t.Paths[0]), nil
}

// MakeTemplate implements site.TemplateMaker.
func (s *Site) MakeTemplate(ctx context.Context, o contract.TemplateOrder, from contract.Image) (contract.Task, error) {
	return s.act(ctx, o.Identity, func(ctx context.Context, share func(float64)) error {
		dir := filepath.Join(s.Path, templatesName, o.Version.Name())
		switch is, err := readTemplate(dir); {
		case err == nil && is.ID == o.Identity:
			return nil
		case err == nil:
			return refused("there is another template %s", o.Version.Name())
		case !errors.Is(err, fs.ErrNotExist):
			return err
		}
		if err := filename.Check(o.Version.Name()); err != nil {
			return refused("%s", err)
		}
		part := filepath.Join(s.Path, templatesName, prefix+o.Identity.String())
		if err := errors.Join(removeAll(part), makeFolder(part)); err != nil {
			return err
		}
		if err := s.makeTemplate(ctx, part, o, from, share); err != nil {
			return err
		}
		if err := rename(part, dir); err != nil {
			return err
		}
		return syncFolder(filepath.Dir(dir))
	})
}

func (s *Site) makeTemplate(ctx context.Context, dir string, o contract.TemplateOrder, from contract.Image, share func(float64)) error {
	r := templateRecord{ID: o.Identity, CPUs: o.CPUs, Memory: o.Memory, Firmware: o.Firmware, Version: o.Version, Disk: o.Version.Name() + "." + s.Format}
	path := filepath.Join(dir, r.Disk)
	sent := filepath.Join(dir, ".sent")
	if err := writeFile(sent, 0o600, from.WriteTo); err != nil {
		return err
	}
	d, err := diskfile.Open(sent, "qcow2")
	if err != nil {
		return err
	}
	defer d.Close()
	if d.Length() != int64(o.Disk) || len(d.Images) > 1 {
		return refused("what was sent is not an image of a disk of %s", o.Disk)
	}
	if s.Format == "qcow2" {
		err = rename(sent, path)
	} else {
		err = errors.Join(s.writeDisk(ctx, path, image.Order{Identity: o.Identity}, d.Chain, nil, func(at int64) { share(float64(at) / float64(o.Disk)) }), remove(sent))
	}
	if err != nil {
		return err
	}
	if err := setMode(path, 0o444); err != nil {
		return err
	}
	return writeFile(filepath.Join(dir, templateMark), 0o444, func(w io.Writer) error {
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		return e.Encode(r)
	})
}

// dependsOn reports whether an image that is directly in a folder has a parent in another one.
func dependsOn(path, dir string) bool {
	entries, err := os.ReadDir(path)
	if err != nil {
		return false
	}
	for _, e := range entries {
		if _, is := formats.ByEnding(e.Name()); !is || e.IsDir() {
			continue
		}
		d, err := diskfile.Open(filepath.Join(path, e.Name()), "")
		if err != nil {
			continue
		}
		defer d.Close()
		if slices.ContainsFunc(d.Paths[1:], func(p string) bool { return filename.Same(filepath.Dir(p), dir) }) {
			return true
		}
	}
	return false
}

// DropTemplate implements site.TemplateMaker.
func (s *Site) DropTemplate(ctx context.Context, v contract.Version, id uuid.UUID) (contract.Task, error) {
	return s.act(ctx, id, func(context.Context, func(float64)) error {
		found, err := s.look()
		if err != nil {
			return err
		}
		dir := filepath.Join(s.Path, templatesName, v.Name())
		for _, m := range found.marked {
			if m.Parent != nil && filename.Same(filepath.Dir(m.parentFile()), dir) {
				return refused("%s is a linked clone of it, in %s", m.Name, m.dir)
			}
		}
		for _, path := range found.foreign {
			if dependsOn(path, dir) {
				return refused("a disk in %s depends on it", path)
			}
		}
		gone := filepath.Join(s.Path, templatesName, gonePrefix+id.String())
		switch is, err := readTemplate(dir); {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return err
		case is.ID != id:
			return refused("template %s is another one", v.Name())
		default:
			if err := rename(dir, gone); err != nil {
				return err
			}
		}
		return errors.Join(removeAll(gone), removeAll(filepath.Join(s.Path, templatesName, prefix+id.String())))
	})
}
