// Package formats lists the formats of disk images, and opens and writes any of them.
package formats

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/qcow2"
	"mintbatch/internal/core/image/vhd"
	"mintbatch/internal/core/image/vhdx"
	"mintbatch/internal/core/image/vmdk"
)

// Format is a format of disk images.
type Format struct {
	Name string
	// Endings are those of names of files.
	Endings []string
	// Variants are those that are written, the usual one first.
	Variants []image.Variant

	is     func(head, tail []byte) bool
	open   func(file image.File, beside image.Siblings) (*image.Image, error)
	create func(to io.WriterAt, o image.Order) (image.Writer, error)
}

// Raw is the name of the format of files that are what a guest sees.
const Raw = "raw"

var all = []Format{
	{qcow2.Name, []string{".qcow2"}, []image.Variant{image.Dynamic, image.Packed, image.Zstd, image.Old, image.Child}, func(head, _ []byte) bool { return qcow2.Is(head) }, alone(qcow2.Describe), qcow2.Create},
	{vhdx.Name, []string{".vhdx", ".avhdx"}, []image.Variant{image.Dynamic, image.Fixed, image.Child}, func(head, _ []byte) bool { return vhdx.Is(head) }, alone(vhdx.Open), vhdx.Create},
	{vhd.Name, []string{".vhd", ".avhd"}, []image.Variant{image.Dynamic, image.Fixed, image.Child}, vhd.Is, alone(vhd.Open), vhd.Create},
	{vmdk.Name, []string{".vmdk"}, []image.Variant{image.Dynamic, image.Stream, image.Fixed, image.Child}, func(head, _ []byte) bool { return vmdk.Is(head) }, vmdk.Open, vmdk.Create},
	{Raw, []string{".raw", ".img", ".bin", ".dd"}, []image.Variant{image.Fixed}, func([]byte, []byte) bool { return true }, alone(openRaw), createRaw},
}

func alone(open func(image.File) (*image.Image, error)) func(image.File, image.Siblings) (*image.Image, error) {
	return func(file image.File, _ image.Siblings) (*image.Image, error) { return open(file) }
}

// Names are those of the formats.
func Names() (names []string) {
	for _, f := range all {
		names = append(names, f.Name)
	}
	return names
}

// Of is the format of a name.
func Of(name string) (Format, bool) {
	i := slices.IndexFunc(all, func(f Format) bool { return f.Name == name })
	if i < 0 {
		return Format{}, false
	}
	return all[i], true
}

// ByEnding is the format that the name of a file tells.
func ByEnding(name string) (Format, bool) {
	i := slices.IndexFunc(all, func(f Format) bool { return slices.Contains(f.Endings, strings.ToLower(path.Ext(name))) })
	if i < 0 {
		return Format{}, false
	}
	return all[i], true
}

// others are what a file may be that is no disk as a guest sees it, by what it has at some place.
var others = []struct {
	at        int
	has, name string
}{
	{0, "\x1f\x8b", "compressed (gzip)"}, {0, "\xfd7zXZ\x00", "compressed (xz)"}, {0, "\x28\xb5\x2f\xfd", "compressed (zstd)"}, {0, "BZh", "compressed (bzip2)"}, {0, "\x04\x22\x4d\x18", "compressed (lz4)"},
	{0, "PK\x03\x04", "a zip archive"}, {0, "7z\xbc\xaf\x27\x1c", "a 7z archive"}, {0, "Rar!\x1a\x07", "a RAR archive"}, {257, "ustar", "an archive (tar), perhaps a package, which is read with --ova"},
	{0, "QED\x00", "a QED image"}, {0, "<<< ", "a VDI image"}, {0, "WithoutFreeSpace", "a Parallels image"}, {0, "WithouFreSpacExt", "a Parallels image"}, {0, "Bochs Virtual HD", "a Bochs image"},
}

// Detect is the format of the content of a file.
func Detect(file image.File) (Format, error) {
	head, tail := make([]byte, 512), make([]byte, min(512, file.Size()))
	n, _ := file.ReadAt(head, 0) // a file that is shorter is none of those that begin so
	head = head[:n]
	if err := image.ReadFull(file, file.Size()-int64(len(tail)), tail); err != nil {
		return Format{}, err
	}
	for _, o := range others {
		if o.at < len(head) && bytes.HasPrefix(head[o.at:], []byte(o.has)) {
			return Format{}, image.Bad("it is %s; unpack or convert it first", o.name)
		}
	}
	return all[slices.IndexFunc(all, func(f Format) bool { return f.is(head, tail) })], nil
}

// Open opens an image of a format; beside opens the other files that it names.
func (f Format) Open(file image.File, beside image.Siblings) (*image.Image, error) {
	i, err := f.open(file, beside)
	if err != nil && errors.Is(err, image.ErrImage) {
		err = fmt.Errorf("%s: %w", f.Name, err)
	}
	return i, err
}

// Create begins to write an image. Without a variant it is the usual one, or a child if there is a parent.
func (f Format) Create(to io.WriterAt, o image.Order) (image.Writer, error) {
	switch {
	case o.Parent != nil && o.Variant != "" && o.Variant != image.Child, o.Parent == nil && o.Variant == image.Child:
		return nil, fmt.Errorf("an image is %s if it has a parent, and only then", image.Child)
	case o.Parent != nil:
		o.Variant = image.Child
	case o.Variant == "":
		o.Variant = f.Variants[0]
	}
	if !slices.Contains(f.Variants, o.Variant) {
		var can []string
		for _, v := range f.Variants {
			can = append(can, string(v))
		}
		return nil, fmt.Errorf("a %s image cannot be %s (%s)", f.Name, o.Variant, strings.Join(can, ", "))
	}
	return f.create(to, o)
}

func openRaw(file image.File) (*image.Image, error) {
	return &image.Image{Layer: image.Raw{ReaderAt: file, Size: file.Size()}, Format: Raw, Variant: image.Fixed, Block: 512, Check: func() ([]image.Damage, error) { return nil, nil }}, nil
}

func createRaw(to io.WriterAt, o image.Order) (image.Writer, error) {
	return &rawWriter{image.Plain{To: to}, o.Size}, nil
}

type rawWriter struct {
	image.Plain
	size int64
}

// Close implements image.Writer.
func (w *rawWriter) Close() (int64, error) { return w.size, nil }
