package qcow2

import (
	"bytes"
	"fmt"
	"path"
	"strings"

	"mintbatch/internal/core/image"
)

// Name is that of the format.
const Name = "qcow2"

// Is reports whether a file begins like an image of this format.
func Is(head []byte) bool { return bytes.HasPrefix(head, []byte("QFI\xfb")) }

// Describe opens an image as one of any format.
func Describe(file image.File) (*image.Image, error) {
	i, err := Open(file)
	if err != nil {
		return nil, err
	}
	d := &image.Image{Layer: i.Now(), Format: Name, Version: fmt.Sprint(i.version), Variant: image.Dynamic, Block: 1 << i.bits}
	if i.zstd {
		d.Remarks = append(d.Remarks, "its compressed clusters are compressed by zstd")
	}
	if len(i.states) > 0 {
		d.Remarks = append(d.Remarks, fmt.Sprintf("it holds %d checkpoints, which are not copied", len(i.states)))
	}
	if i.dirty {
		d.Remarks = append(d.Remarks, "it was not closed in order; its reference counts may be wrong")
	}
	if i.backing != "" {
		if strings.HasPrefix(i.backing, "json:") || strings.Contains(strings.SplitN(i.backing, "/", 2)[0], ":") {
			return nil, bad("it is a child of %q, which is no name of a file", i.backing)
		}
		d.Variant, d.Parent = image.Child, &image.Parent{Names: []string{path.Clean(i.backing)}, Format: i.format}
	}
	d.Check = func() ([]image.Damage, error) { return i.checkCounts(file.Size()) }
	return d, nil
}
