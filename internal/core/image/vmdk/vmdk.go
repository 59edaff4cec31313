// Package vmdk reads and writes disk images in the VMDK format (Virtual Disk Format 5.0, technical note of 2011).
package vmdk

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"path"
	"strings"

	"mintbatch/internal/core/image"
)

// Name is that of the format.
const Name = "vmdk"

const (
	sector  = 512
	largest = 64 << 40 // of a disk, in bytes
)

var le = binary.LittleEndian

// Is reports whether a file begins like an image of this format.
func Is(head []byte) bool {
	return bytes.HasPrefix(head, []byte("KDMV")) || bytes.HasPrefix(head, []byte("COWD")) || isWide(head) || isText(head)
}

// Open opens an image: a file with all in it, or a descriptor and the files that it names.
func Open(file image.File, beside image.Siblings) (*image.Image, error) {
	head := make([]byte, 64)
	_, _ = file.ReadAt(head, 0) // a file that is shorter is none of these
	switch {
	case bytes.HasPrefix(head, []byte("COWD")), isWide(head):
		return nil, image.Bad("it is a part of a disk; name the file with its descriptor")
	case !isText(head):
		return openSparse(file)
	case file.Size() > mostDescriptor:
		return nil, image.Bad("a descriptor of %d bytes", file.Size())
	}
	text := make([]byte, file.Size())
	if err := image.ReadFull(file, 0, text); err != nil {
		return nil, err
	}
	d, err := parseDescriptor(text)
	if err != nil {
		return nil, err
	}
	i := d.image()
	i.Variant = image.Fixed
	var parts parts
	var checks []func() ([]image.Damage, error)
	for _, e := range d.extents {
		if e.access == "NOACCESS" {
			return nil, image.Bad("no access to %s, a part of it", e.name)
		}
		part := part{length: e.sectors * sector}
		if e.kind != "ZERO" && (strings.ContainsAny(e.name, `/\`) || path.Base(e.name) != e.name || e.name == "..") {
			return nil, image.Bad("it names %q, which is not beside it", e.name)
		}
		switch e.kind {
		case "ZERO":
			part.Layer = image.Chain{}
		case "FLAT", "VMFS":
			f, err := beside(e.name)
			if err != nil {
				return nil, err
			}
			if e.offset*sector > f.Size()-part.length {
				return nil, image.Bad("%s has %d bytes, and %d are said to be at %d", e.name, f.Size(), part.length, e.offset*sector)
			}
			part.Layer, part.from = image.Raw{ReaderAt: f, Size: f.Size()}, e.offset*sector
		case "SPARSE", "VMFSSPARSE", "SESPARSE":
			f, err := beside(e.name)
			if err != nil {
				return nil, err
			}
			s, err := openExtent(f, d.parent != noParent)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", e.name, err)
			}
			if s.size < part.length {
				return nil, image.Bad("%s has %d bytes of the disk, not %d", e.name, s.size, part.length)
			}
			part.Layer, i.Block, i.Variant = s, s.grain, image.Dynamic
			checks = append(checks, s.check)
		default:
			return nil, image.Bad("a part of the kind %s, which is not known", e.kind)
		}
		part.at = parts.Length()
		if parts = append(parts, part); parts.Length() > largest {
			return nil, image.Bad("a disk of more than %d bytes", int64(largest))
		}
	}
	if i.Block == 0 {
		i.Block = sector
	}
	if i.Layer, i.Parent = parts, d.parentOf(); i.Parent != nil {
		i.Variant = image.Child
	}
	i.Check = func() (all []image.Damage, err error) {
		for _, check := range checks {
			found, err := check()
			if err != nil {
				return nil, err
			}
			all = append(all, found...)
		}
		return all, nil
	}
	return i, nil
}

func (d *descriptor) image() *image.Image {
	return &image.Image{Format: Name, Version: d.version, Identity: d.identity(), Remarks: []string{"its kind is " + d.kind}}
}

// parts are files one after the other.
type parts []part

type part struct {
	image.Layer
	at, from, length int64 // where on the disk, from where in the layer, and how much
}

// Length implements image.Layer.
func (p parts) Length() int64 {
	if len(p) == 0 {
		return 0
	}
	last := p[len(p)-1]
	return last.at + last.length
}

func (p parts) of(at int64) (part, bool) {
	for _, one := range p {
		if at >= one.at && at < one.at+one.length {
			return one, true
		}
	}
	return part{}, false
}

// Run implements image.Layer.
func (p parts) Run(at int64) (image.Run, error) {
	one, is := p.of(at)
	if !is {
		return image.Run{}, image.Bad("nothing is at %d of a disk of %d bytes", at, p.Length())
	}
	if one.Layer.Length() == 0 {
		return image.Run{State: image.Zero, Length: one.at + one.length - at}, nil
	}
	run, err := one.Run(one.from + at - one.at)
	run.Length = min(run.Length, one.at+one.length-at)
	return run, err
}

// ReadAt implements io.ReaderAt.
func (p parts) ReadAt(into []byte, at int64) (int, error) {
	for done := 0; done < len(into); {
		here := at + int64(done)
		one, is := p.of(here)
		if !is {
			return done, io.EOF
		}
		piece := into[done : int64(done)+min(int64(len(into)-done), one.at+one.length-here)]
		if n, err := one.ReadAt(piece, one.from+here-one.at); n < len(piece) {
			return done + n, err
		}
		done += len(piece)
	}
	return len(into), nil
}
