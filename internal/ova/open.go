// Package ova reads and writes machines as packages in the Open Virtualization Format: a folder of files, or one archive of them.
package ova

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/formats"
	"mintbatch/internal/core/ovf"
)

// Package is a package that was opened.
type Package struct {
	*ovf.Machine
	// Said is what its manifest and its certificate say.
	Said []string

	files  map[string]*io.SectionReader
	order  []string
	opened []*os.File
	dir    string // of a package that is a folder
}

const mostFiles = 4096

// Open opens an archive, or the description in a folder.
func Open(name string) (*Package, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	p := &Package{files: map[string]*io.SectionReader{}, opened: []*os.File{f}}
	if err := p.open(f); err != nil {
		p.Close()
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return p, nil
}

func (p *Package) open(f *os.File) error {
	about, err := f.Stat()
	if err != nil {
		return err
	}
	base := ""
	if about.IsDir() {
		return fmt.Errorf("%w: it is a folder; name the file in it that ends in .ovf", ovf.ErrPackage)
	}
	if strings.EqualFold(filepath.Ext(f.Name()), ".ovf") {
		p.dir, base = filepath.Dir(f.Name()), filepath.Base(f.Name())
		p.files[base] = io.NewSectionReader(f, 0, about.Size())
	} else {
		if err := p.list(f, about.Size()); err != nil {
			return err
		}
		base = p.order[0]
	}
	text, err := p.text(base)
	if err != nil {
		return err
	}
	if p.Machine, err = ovf.Parse(text); err != nil {
		return err
	}
	return p.verify(strings.TrimSuffix(base, path.Ext(base)))
}

// list finds the files in an archive.
func (p *Package) list(f *os.File, size int64) error {
	archive := tar.NewReader(f)
	for {
		h, err := archive.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("%w: it is no archive (tar) that is whole: %w", ovf.ErrPackage, err)
		}
		at, err := f.Seek(0, io.SeekCurrent)
		if err != nil {
			return err
		}
		name := path.Clean(h.Name)
		switch {
		case h.Typeflag != tar.TypeReg:
			return fmt.Errorf("%w: %s in it is no file", ovf.ErrPackage, h.Name)
		case p.files[name] != nil || len(p.order) == mostFiles:
			return fmt.Errorf("%w: %s is in it twice, or too many files are", ovf.ErrPackage, name)
		case h.Size > size-at:
			return fmt.Errorf("%w: %s is cut short", ovf.ErrPackage, name)
		}
		p.files[name] = io.NewSectionReader(f, at, h.Size)
		p.order = append(p.order, name)
	}
	if len(p.order) == 0 || !strings.EqualFold(path.Ext(p.order[0]), ".ovf") {
		return fmt.Errorf("%w: the first file in it is no description (.ovf)", ovf.ErrPackage)
	}
	return nil
}

// mostText bounds the files that are read into memory.
const mostText = 8 << 20

func (p *Package) text(name string) ([]byte, error) {
	f, err := p.file(name)
	if err != nil {
		return nil, err
	}
	if f.Size() > mostText {
		return nil, fmt.Errorf("%w: %s has %d bytes", ovf.ErrPackage, name, f.Size())
	}
	text := make([]byte, f.Size())
	return text, image.ReadFull(f, 0, text)
}

// file is a file of the package.
func (p *Package) file(name string) (*io.SectionReader, error) {
	name = path.Clean(name)
	if f := p.files[name]; f != nil {
		return f, nil
	}
	if p.dir == "" {
		return nil, fmt.Errorf("%w: it has no file %s", ovf.ErrPackage, name)
	}
	f, err := os.Open(filepath.Join(p.dir, filepath.FromSlash(name)))
	if err != nil {
		return nil, err
	}
	p.opened = append(p.opened, f)
	about, err := f.Stat()
	if err != nil {
		return nil, err
	}
	p.files[name] = io.NewSectionReader(f, 0, about.Size())
	return p.files[name], nil
}

// verify holds the files against the manifest, if there is one.
func (p *Package) verify(base string) error {
	text, err := p.text(base + ".mf")
	if err != nil {
		p.Said = []string{"it has no manifest: whether its files are whole was not checked"}
		return nil
	}
	digests, err := ovf.ParseManifest(string(text))
	if err != nil {
		return err
	}
	var covered []string
	for _, d := range digests {
		f, err := p.file(d.File)
		if err != nil {
			return fmt.Errorf("%w: its manifest lists %s: %w", ovf.ErrPackage, d.File, err)
		}
		h := d.Hash.New()
		if _, err := io.Copy(h, io.NewSectionReader(f, 0, f.Size())); err != nil {
			return err
		}
		if !bytes.Equal(h.Sum(nil), d.Sum) {
			return fmt.Errorf("%w: %s is not what its manifest says (%s)", ovf.ErrPackage, d.File, d.Hash)
		}
		covered = append(covered, path.Clean(d.File))
	}
	for _, d := range p.Disks {
		if d.File != "" && !slices.Contains(covered, path.Clean(d.File)) {
			return fmt.Errorf("%w: its manifest does not list %s", ovf.ErrPackage, d.File)
		}
	}
	p.Said = []string{fmt.Sprintf("all %d files are what its manifest says", len(digests))}
	if signed, err := p.text(base + ".cert"); err == nil {
		p.Said = append(p.Said, ovf.Certificate(signed, text))
	}
	return nil
}

// Disk opens a disk of the machine.
func (p *Package) Disk(d ovf.Disk) (image.Chain, error) {
	if d.File == "" {
		return nil, fmt.Errorf("disk %s has no content", d.ID)
	}
	if err := d.Readable(); err != nil {
		return nil, err
	}
	f, err := p.file(d.File)
	if err != nil {
		return nil, err
	}
	format, err := formats.Detect(f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", d.File, err)
	}
	i, err := format.Open(f, func(name string) (image.File, error) { return p.file(path.Join(path.Dir(d.File), name)) })
	if err != nil {
		return nil, fmt.Errorf("%s: %w", d.File, err)
	}
	if i.Parent != nil {
		return nil, fmt.Errorf("%w: %s is a child of another image", ovf.ErrPackage, d.File)
	}
	return image.Chain{i}, nil
}

// Close closes all files.
func (p *Package) Close() {
	for _, f := range p.opened {
		_ = f.Close()
	}
}
