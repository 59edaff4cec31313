package diskfile

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"github.com/google/uuid"

	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/formats"
)

// Conversion says what image to make of another.
type Conversion struct {
	Source       string
	SourceFormat string // looked for if empty
	Format       string // of the target; by its name if empty
	Variant      image.Variant
	// Parent is an image of the target's format, of which the target is to be a child.
	Parent string
}

// ErrDamaged means that an image is not as its format demands.
var ErrDamaged = errors.New("the image is damaged")

// Converting is a conversion that can begin.
type Converting struct {
	*Disk
	format formats.Format
	order  image.Order
	below  *Disk
}

// PrepareConversion opens what a conversion needs, and checks it. target is the name that the new image will have.
func PrepareConversion(c Conversion, target string) (*Converting, error) {
	format, known := formats.Of(c.Format)
	if c.Format == "" {
		format, known = formats.ByEnding(target)
	}
	if !known {
		return nil, fmt.Errorf("the format of %s is not known by its name; give --format", target)
	}
	from, err := Open(c.Source, c.SourceFormat)
	if err != nil {
		return nil, err
	}
	v := &Converting{Disk: from, format: format, order: image.Order{Variant: c.Variant, Name: filepath.Base(target)}}
	if err := v.sound(); err != nil {
		v.Close()
		return nil, err
	}
	if c.Parent != "" {
		if err := v.setParent(c.Parent, target); err != nil {
			v.Close()
			return nil, err
		}
	}
	v.order.Identity = v.identity(filepath.Base(target))
	return v, nil
}

// identity is that of the new image: the same for the same source, and another one once any file of that was written to, so that
// children of the one are not taken for children of the other.
func (v *Converting) identity(target string) uuid.UUID {
	of := fmt.Append(nil, "mintbatch:", target)
	for n, path := range v.Paths {
		of = fmt.Append(of, ":", filepath.Base(path), ":", v.Images[n].Identity)
	}
	for _, f := range v.files {
		if about, err := f.Stat(); err == nil {
			of = fmt.Append(of, ":", about.Size(), ":", about.ModTime().UnixNano())
		}
	}
	return uuid.NewSHA1(uuid.NameSpaceURL, of)
}

// sound is an error if any image of the chain has damage by which data may be wrong.
func (v *Converting) sound() error {
	found, err := v.Check()
	if err != nil {
		return err
	}
	for _, d := range found {
		if !d.Waste {
			return fmt.Errorf("%w: %s: %s", ErrDamaged, d.Path, d.What)
		}
	}
	return nil
}

func (v *Converting) setParent(parent, target string) error {
	below, err := Open(parent, "")
	if err != nil {
		return err
	}
	v.below = below
	dir, err := filepath.Abs(filepath.Dir(target))
	if err != nil {
		return err
	}
	whole, err := filepath.Abs(parent)
	if err != nil {
		return err
	}
	name, err := filepath.Rel(dir, whole)
	if err != nil {
		return err
	}
	if below.Images[0].Format != v.format.Name && v.format.Name != "qcow2" {
		return fmt.Errorf("%s is a %s image; the parent of a %s image must be one, too", parent, below.Images[0].Format, v.format.Name)
	}
	if below.Length() > v.Length() {
		return fmt.Errorf("the disk of %s is larger than that of %s", parent, v.Paths[0])
	}
	v.order.Parent, v.order.ParentName = below.Images[0], filepath.ToSlash(name)
	return nil
}

// Close closes all files.
func (v *Converting) Close() {
	v.Disk.Close()
	if v.below != nil {
		v.below.Close()
	}
}

// Sources are the files that are read.
func (v *Converting) Sources() []string {
	all := v.Paths
	if v.below != nil {
		all = append(all, v.below.Paths...)
	}
	return all
}

// To writes the image into a folder, under the name of the target.
func (v *Converting) To(ctx context.Context, dir string, done func(at int64)) error {
	var below image.Chain
	if v.below != nil {
		below = v.below.Chain
	}
	return Write(ctx, filepath.Join(dir, v.order.Name), v.format, v.order, v.Chain, below, done)
}
