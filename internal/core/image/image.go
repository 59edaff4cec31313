// Package image holds what disk images of every format have in common. Each format is a folder below.
package image

import (
	"errors"
	"fmt"
	"io"
)

// ErrImage is what every failure to understand an image unwraps to.
var ErrImage = errors.New("not a disk image that can be read")

// Bad is a refusal of an image, with what is wrong and where.
func Bad(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrImage, fmt.Sprintf(format, args...))
}

// File is what an image is read from.
type File interface {
	io.ReaderAt
	// Size is in bytes.
	Size() int64
}

// Siblings opens a file that an image names, which lies beside it.
type Siblings func(name string) (File, error)

// Variant is how a format stores a disk.
type Variant string

// The variants.
const (
	Fixed   Variant = "fixed"   // all of the disk, whether it was written to or not
	Dynamic Variant = "dynamic" // what was written
	Child   Variant = "child"   // what differs from a parent
	Stream  Variant = "stream"  // what was written, compressed, to be read from its beginning to its end
	Packed  Variant = "packed"  // what was written, compressed by deflate
	Zstd    Variant = "zstd"    // what was written, compressed by zstd
	Old     Variant = "v2"      // what was written, in the version of the format before the present one
)

// Image is an image that was opened: what it says of itself, and its own part of the disk.
type Image struct {
	Layer
	Format  string
	Version string // of the format, in its own words
	Variant Variant
	// Block is the number of bytes that are stored together.
	Block int64
	// Identity is what a child knows its parent by; empty where the format has none.
	Identity string
	Parent   *Parent
	// Remarks are about what is unusual and was coped with.
	Remarks []string
	// Check looks for damage in all tables.
	Check func() ([]Damage, error)
}

// Parent is the image that a child is a child of.
type Parent struct {
	// Names are where it may be, the likeliest first, with / between folders; one without a / in front is
	// meant from the folder of the child on.
	Names []string
	// Format is empty where the child does not say it.
	Format string
	// Identity is what that of the parent must be; empty where it is not known.
	Identity string
}

// Layer is one of the disks that lie on each other: a child, its parent, and so on. It may be read from
// several sides at once.
type Layer interface {
	// ReadAt reads a part that Run says is data.
	io.ReaderAt
	// Length is the size of the disk in bytes.
	Length() int64
	// Run says what is at a place of the disk, and for how many bytes at least the same is true. More is
	// never looked up than one table of the image.
	Run(at int64) (Run, error)
}

// Run is a part of a disk about which a layer says the same.
type Run struct {
	State  State
	Length int64 // in bytes, at least one
}

// State is what a layer says of a part of a disk.
type State int

// The states.
const (
	Below State = iota // nothing: there is what the parent has, or zeros
	Zero
	Data
)

// ReadFull reads all of a part of a file, or says where the file ends.
func ReadFull(file io.ReaderAt, at int64, into []byte) error {
	if at < 0 {
		return Bad("something is said to be at %d", at)
	}
	n, err := file.ReadAt(into, at)
	if n == len(into) {
		return nil
	}
	if errors.Is(err, io.EOF) {
		return Bad("it ends before %d", at+int64(len(into)))
	}
	return err
}

// ReadBlocks reads a part of a disk of a size whose blocks are stored each by itself: place is where the data of a block is in the file,
// and 0 if it has none, which is zeros.
func ReadBlocks(file io.ReaderAt, into []byte, at, size, block int64, place func(block int64) (int64, error)) (int, error) {
	for done := 0; done < len(into); {
		here := at + int64(done)
		if here < 0 || here >= size {
			return done, io.EOF
		}
		n := min(int64(len(into)-done), block-here%block, size-here)
		part := into[done : int64(done)+n]
		from, err := place(here / block)
		if err == nil && from == 0 {
			clear(part)
		} else if err == nil {
			err = ReadFull(file, from+here%block, part)
		}
		if err != nil {
			return done, err
		}
		done += int(n)
	}
	return len(into), nil
}
