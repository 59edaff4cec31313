// Package diskfile opens disk images in files with those that they depend on, copies them and writes others.
package diskfile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/formats"
)

// Disk is a disk in a file, with the files that it depends on.
type Disk struct {
	image.Chain
	// Images are those of the chain, the child first, and Paths their files.
	Images []*image.Image
	Paths  []string

	files []*file
	begin []int // of each image, its first file
}

// longestChain bounds how deep images may depend on images.
const longestChain = 64

// Parent is an error about an image that another is a child of.
type Parent struct {
	Child string
	err   error
}

// Error says of which child.
func (p *Parent) Error() string { return fmt.Sprintf("%s: its parent: %s", p.Child, p.err) }

// Unwrap is the cause.
func (p *Parent) Unwrap() error { return p.err }

// Open opens a disk; its format is looked for in its content where none is named.
func Open(path, format string) (*Disk, error) {
	d, err := Look(path, format)
	if err != nil {
		if d != nil {
			d.Close()
		}
		return nil, err
	}
	return d, nil
}

// Look is Open, but with an error that is a *Parent comes as much of the chain as there is.
func Look(path, format string) (*Disk, error) {
	d := &Disk{}
	identity := ""
	for below := path; below != ""; {
		fail := func(err error) (*Disk, error) {
			if len(d.Images) > 0 {
				return d, &Parent{d.Paths[len(d.Paths)-1], err}
			}
			d.Close()
			return nil, err
		}
		begin := len(d.files)
		i, err := d.open(below, format)
		if err != nil {
			return fail(err)
		}
		if identity != "" && i.Identity != identity {
			return fail(fmt.Errorf("%s is not the image that it is a child of, or was changed since (%s, not %s)", below, orNone(i.Identity), identity))
		}
		d.Images, d.Paths, d.Chain, d.begin = append(d.Images, i), append(d.Paths, below), append(d.Chain, i), append(d.begin, begin)
		if i.Parent == nil {
			break
		}
		next, err := find(below, i.Parent)
		if err != nil {
			return fail(err)
		}
		for _, seen := range d.Paths {
			if same(seen, next) {
				return fail(fmt.Errorf("%s is a child of itself", next))
			}
		}
		if len(d.Paths) == longestChain {
			return fail(fmt.Errorf("more than %d images depend on each other", longestChain))
		}
		below, format, identity = next, i.Parent.Format, i.Parent.Identity
	}
	return d, nil
}

func orNone(id string) string {
	if id == "" {
		return "no identity"
	}
	return id
}

func same(a, b string) bool {
	one, err := os.Stat(a)
	other, err2 := os.Stat(b)
	return err == nil && err2 == nil && os.SameFile(one, other)
}

// open opens one image.
func (d *Disk) open(path, format string) (*image.Image, error) {
	f, err := d.file(path)
	if err != nil {
		return nil, err
	}
	is, known := formats.Of(format)
	if !known {
		if is, err = formats.Detect(f); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	i, err := is.Open(f, func(name string) (image.File, error) { return d.file(filepath.Join(filepath.Dir(path), name)) })
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return i, nil
}

func (d *Disk) file(path string) (*file, error) {
	f, err := openDisk(path)
	if err != nil {
		return nil, err
	}
	about, err := f.Stat()
	size := int64(0)
	if err == nil {
		size, err = sizeOf(f, about)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	opened := &file{File: f, size: size}
	d.files = append(d.files, opened)
	return opened, nil
}

// openDisk opens a file or a device: a pipe, say, would only be opened once somebody writes to it.
func openDisk(path string) (*os.File, error) {
	about, err := os.Stat(path)
	switch {
	case err != nil: // which opening it tells, too
	case about.IsDir():
		return nil, fmt.Errorf("%s is a folder, not a disk image", path)
	case about.Mode()&(fs.ModeNamedPipe|fs.ModeSocket) != 0:
		return nil, fmt.Errorf("%s is a pipe, not a disk image", path)
	}
	return os.Open(path)
}

// sizeOf is that of a file, or of a device.
func sizeOf(f *os.File, about fs.FileInfo) (int64, error) {
	if about.Mode().IsRegular() {
		return about.Size(), nil
	}
	return f.Seek(0, 2)
}

// find finds the file of a parent.
func find(child string, p *image.Parent) (string, error) {
	for _, name := range p.Names {
		path := filepath.FromSlash(name)
		if !filepath.IsAbs(path) {
			path = filepath.Join(filepath.Dir(child), path)
		}
		if about, err := os.Stat(path); err == nil && !about.IsDir() {
			return path, nil
		}
	}
	return "", fmt.Errorf("%w: %s", fs.ErrNotExist, strings.Join(p.Names, ", "))
}

// Close closes all files.
func (d *Disk) Close() {
	for _, f := range d.files {
		_ = f.Close()
	}
}

// Virtual is the size of the disk in bytes, of whole sectors.
func (d *Disk) Virtual() int64 { return (d.Length() + 511) / 512 * 512 }

// Damage is what is wrong with an image of a disk.
type Damage struct {
	Path string `json:"file"`
	image.Damage
}

// Check looks for damage in all images of the chain.
func (d *Disk) Check() (all []Damage, err error) {
	for n, i := range d.Images {
		found, err := i.Check()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", d.Paths[n], err)
		}
		for _, one := range found {
			all = append(all, Damage{d.Paths[n], one})
		}
	}
	return all, nil
}

// file is a file that knows its holes, where its file system does.
type file struct {
	*os.File
	size int64
}

// Size implements image.File.
func (f *file) Size() int64 { return f.size }

// StoredIn is how much a file takes of its file system, in bytes.
func StoredIn(path string) int64 {
	f, err := openDisk(path)
	if err != nil {
		return 0
	}
	defer f.Close() //nolint:errcheck // nothing is written to it
	return stored(f)
}
