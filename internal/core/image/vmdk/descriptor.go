package vmdk

import (
	"bufio"
	"fmt"
	"path"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/image"
)

// descriptor is the text that says what a disk consists of (Virtual Disk Format 5.0, "The Descriptor").
type descriptor struct {
	version, cid, parent, kind, hint string
	extents                          []extentLine
}

// extentLine is one line about a file with a part of the disk.
type extentLine struct {
	access, kind, name string
	sectors, offset    int64
}

const (
	noParent       = "ffffffff"
	mostDescriptor = 1 << 20
	mostExtents    = 4096
)

// isText reports whether a file begins like a descriptor.
func isText(head []byte) bool {
	line, _, _ := strings.Cut(string(head), "\n")
	return strings.HasPrefix(strings.ToLower(strings.ReplaceAll(line, " ", "")), "#diskdescriptorfile")
}

func parseDescriptor(b []byte) (*descriptor, error) {
	d := &descriptor{parent: noParent}
	text, _, _ := strings.Cut(string(b), "\x00") // one that has become shorter ends before what it was
	lines := bufio.NewScanner(strings.NewReader(text))
	lines.Buffer(nil, mostDescriptor)
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if words := strings.Fields(line); len(words) > 2 && (words[0] == "RW" || words[0] == "RDONLY" || words[0] == "NOACCESS") {
			e, err := parseExtent(line)
			if err != nil {
				return nil, fmt.Errorf("line %d of its descriptor: %w", n, err)
			}
			if d.extents = append(d.extents, e); len(d.extents) > mostExtents {
				return nil, image.Bad("more than %d parts", mostExtents)
			}
			continue
		}
		key, value, found := strings.Cut(line, "=")
		if !found {
			return nil, image.Bad("line %d of its descriptor: %.60q", n, line)
		}
		value = strings.Trim(strings.TrimSpace(value), `"`)
		switch strings.ToLower(strings.TrimSpace(key)) {
		case "version":
			d.version = value
		case "cid":
			d.cid = strings.ToLower(value)
		case "parentcid":
			d.parent = strings.ToLower(value)
		case "createtype":
			d.kind = value
		case "parentfilenamehint":
			d.hint = value
		}
	}
	if err := lines.Err(); err != nil {
		return nil, image.Bad("its descriptor: %s", err)
	}
	switch {
	case len(d.extents) == 0:
		return nil, image.Bad("its descriptor names no part of the disk")
	case d.parent != noParent && d.hint == "":
		return nil, image.Bad("it is a child, and does not say of what")
	}
	return d, nil
}

// parseExtent reads `RW 4192256 SPARSE "name" 0`.
func parseExtent(line string) (e extentLine, err error) {
	words := strings.Fields(line)
	e.access, e.kind = words[0], words[2]
	if e.sectors, err = strconv.ParseInt(words[1], 10, 64); err != nil || e.sectors < 0 || e.sectors > largest/sector {
		return e, image.Bad("a part of %s sectors", words[1])
	}
	if _, rest, found := strings.Cut(line, `"`); found {
		name, after, closed := strings.Cut(rest, `"`)
		if !closed {
			return e, image.Bad("a name without its end: %.60q", line)
		}
		e.name = name
		if offset := strings.Fields(after); len(offset) > 0 {
			if e.offset, err = strconv.ParseInt(offset[0], 10, 64); err != nil || e.offset < 0 || e.offset > largest/sector {
				return e, image.Bad("a part at sector %s", offset[0])
			}
		}
	}
	if e.name == "" && e.kind != "ZERO" {
		return e, image.Bad("a part without a name: %.60q", line)
	}
	return e, nil
}

// identity is what a child of an image knows it by.
func (d *descriptor) identity() string {
	if d.cid == "" {
		return ""
	}
	return "cid " + d.cid
}

func (d *descriptor) parentOf() *image.Parent {
	if d.parent == noParent {
		return nil
	}
	name := image.FromWindows(d.hint)
	p := &image.Parent{Format: Name, Names: []string{name}, Identity: "cid " + d.parent}
	if path.IsAbs(name) {
		p.Names = append(p.Names, path.Base(name))
	}
	return p
}

// describe is the descriptor of an image that is written.
func describe(o image.Order, kind, extent string, sectors int64) (string, error) {
	parent, hint := noParent, ""
	if o.Parent != nil {
		cid, is := strings.CutPrefix(o.Parent.Identity, "cid ")
		if o.Parent.Format != Name || !is {
			return "", fmt.Errorf("the parent of a VMDK image is a VMDK image that says its CID, not %s", o.Parent.Format)
		}
		if strings.ContainsAny(o.ParentName, "\"\r\n") {
			return "", fmt.Errorf("the name of the parent cannot be told in a VMDK image: %q", o.ParentName)
		}
		parent, hint = cid, fmt.Sprintf("parentFileNameHint=\"%s\"\n", o.ParentName)
	}
	if strings.ContainsAny(o.Name, "\"\r\n") {
		return "", fmt.Errorf("the name of the file cannot be told in a VMDK image: %q", o.Name)
	}
	cylinders := min(sectors/(16*63), 65535)
	return fmt.Sprintf(`# Disk DescriptorFile
version=1
CID=%s
parentCID=%s
createType="%s"
%s
# Extent description
%s

# The Disk Data Base
#DDB

ddb.virtualHWVersion = "4"
ddb.geometry.cylinders = "%d"
ddb.geometry.heads = "16"
ddb.geometry.sectors = "63"
ddb.adapterType = "ide"
ddb.uuid = "%s"
`, contentID(o.Identity), parent, kind, hint, extent, cylinders, spaced(o.Identity)), nil
}

// contentID is the CID of an identity; two values have a meaning of their own.
func contentID(id uuid.UUID) string {
	cid := fmt.Sprintf("%x", id[:4])
	if cid == noParent || cid == "fffffffe" {
		return "00000001"
	}
	return cid
}

// spaced is how the format writes an identity.
func spaced(id uuid.UUID) string {
	s := fmt.Sprintf("% x", id[:])
	return s[:23] + "-" + s[24:]
}
