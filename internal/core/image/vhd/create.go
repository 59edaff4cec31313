package vhd

import (
	"encoding/binary"
	"fmt"
	"io"
	"path"

	"github.com/google/uuid"

	"mintbatch/internal/core/image"
)

// The blocks that are written: as everybody has them.
const writeBlock = 2 << 20

const writeBitmap = writeBlock / sector / 8 // one sector

// Create begins to write an image.
func Create(to io.WriterAt, o image.Order) (image.Writer, error) {
	size := (o.Size + sector - 1) / sector * sector
	if size <= 0 || size > Largest {
		return nil, fmt.Errorf("a VHD image has a disk of 512 bytes to 2040 GiB, not of %d bytes", o.Size)
	}
	switch o.Variant {
	case image.Fixed:
		return &fixed{image.Plain{To: to}, size, o.Identity}, nil
	case image.Stream:
		return nil, fmt.Errorf("a VHD image cannot be %s", o.Variant)
	}
	w := &writer{to: to, size: size, id: o.Identity, parent: o.Parent, name: o.ParentName, current: -1}
	w.table = make([]byte, ((size+writeBlock-1)/writeBlock*4+sector-1)/sector*sector)
	for i := range w.table {
		w.table[i] = 0xff
	}
	w.next = footerLen + headerLen + int64(len(w.table))
	if w.parent != nil {
		if w.parent.Format != Name || w.parent.Identity == "" {
			return nil, fmt.Errorf("the parent of a VHD image is a VHD image, not %s", w.parent.Format)
		}
		w.locator = image.ToUTF16(image.ToWindows(w.name), binary.LittleEndian)
		if len(w.locator) > 2048 {
			return nil, fmt.Errorf("the name of the parent is too long: %s", w.name)
		}
		w.next += (int64(len(w.locator)) + sector - 1) / sector * sector
	}
	return w, nil
}

// fixed writes the disk as it is, and the footer.
type fixed struct {
	image.Plain
	size int64
	id   uuid.UUID
}

// Close implements image.Writer.
func (w *fixed) Close() (int64, error) {
	_, err := w.To.WriteAt(footerOf(w.size, typeFixed, w.id), w.size)
	return w.size + footerLen, err
}

// writer puts blocks one after the other; tables and headers come last.
type writer struct {
	to      io.WriterAt
	size    int64
	id      uuid.UUID
	parent  *image.Image
	name    string
	locator []byte
	table   []byte
	next    int64 // where the next block goes

	current int64 // the block that is being filled; -1 if none is
	bits    [writeBitmap]byte
}

// Block implements image.Writer.
func (*writer) Block() int64 { return 4096 }

// Prepare implements image.Writer.
func (w *writer) Prepare(at int64, content []byte) (func() error, error) {
	return func() error { return image.InBlocks(at, content, writeBlock, w.put) }, nil
}

// put writes a part of one block.
func (w *writer) put(at int64, content []byte) error {
	if block := at / writeBlock; block != w.current {
		if err := w.flush(); err != nil {
			return err
		}
		w.current = block
		binary.BigEndian.PutUint32(w.table[block*4:], uint32(w.next/sector))
		w.next += writeBitmap + writeBlock
	}
	within := at % writeBlock
	_, err := w.to.WriteAt(content, w.next-writeBlock+within)
	for s := within / sector; s < (within+int64(len(content))+sector-1)/sector; s++ {
		w.bits[s/8] |= 0x80 >> (s % 8)
	}
	return err
}

// flush writes the bitmap of the block that is full. Without a parent all of a block counts as written.
func (w *writer) flush() error {
	if w.current < 0 {
		return nil
	}
	if w.parent == nil {
		for i := range w.bits {
			w.bits[i] = 0xff
		}
	}
	_, err := w.to.WriteAt(w.bits[:], w.next-writeBlock-writeBitmap)
	clear(w.bits[:])
	return err
}

// Close implements image.Writer.
func (w *writer) Close() (int64, error) {
	if err := w.flush(); err != nil {
		return 0, err
	}
	kind, be := uint32(typeDynamic), binary.BigEndian
	h := make([]byte, headerLen)
	copy(h, sparse)
	be.PutUint64(h[8:], noOffset)
	be.PutUint64(h[16:], footerLen+headerLen)
	be.PutUint32(h[24:], 0x00010000)
	be.PutUint32(h[28:], uint32((w.size+writeBlock-1)/writeBlock))
	be.PutUint32(h[32:], writeBlock)
	if w.parent != nil {
		kind = typeChild
		id, err := uuid.Parse(w.parent.Identity)
		if err != nil {
			return 0, fmt.Errorf("the identity of the parent: %w", err)
		}
		copy(h[40:], id[:])
		copy(h[64:576-2], image.ToUTF16(path.Base(w.name), be))
		at := int64(footerLen + headerLen + len(w.table))
		space := (len(w.locator) + sector - 1) / sector * sector
		be.PutUint32(h[576:], relativeName)
		be.PutUint32(h[580:], uint32(space))
		be.PutUint32(h[584:], uint32(len(w.locator)))
		be.PutUint64(h[592:], uint64(at))
		if _, err := w.to.WriteAt(append(w.locator, make([]byte, space-len(w.locator))...), at); err != nil {
			return 0, err
		}
	}
	be.PutUint32(h[headerSum:], sum(h, headerSum))
	foot := footerOf(w.size, kind, w.id)
	for _, part := range []struct {
		at   int64
		what []byte
	}{{footerLen, h}, {footerLen + headerLen, w.table}, {w.next, foot}, {0, foot}} {
		if _, err := w.to.WriteAt(part.what, part.at); err != nil {
			return 0, err
		}
	}
	return w.next + footerLen, nil
}

// footerOf is a footer ("Hard Disk Footer Format"). Its creator is one whose size every reader takes as it is; that of others is
// rounded to the geometry by some. It says that it was made when the format's time begins, so that the same is written every time.
func footerOf(size int64, kind uint32, id uuid.UUID) []byte {
	f, be := make([]byte, footerLen), binary.BigEndian
	copy(f, cookie)
	be.PutUint32(f[8:], 2)
	be.PutUint32(f[12:], 0x00010000)
	be.PutUint64(f[16:], footerLen)
	if kind == typeFixed {
		be.PutUint64(f[16:], noOffset)
	}
	copy(f[28:], "win ")
	be.PutUint32(f[32:], 0x000a0000)
	copy(f[36:], "Wi2k")
	be.PutUint64(f[40:], uint64(size))
	be.PutUint64(f[48:], uint64(size))
	be.PutUint32(f[56:], geometry(size/sector))
	be.PutUint32(f[60:], kind)
	copy(f[68:], id[:])
	be.PutUint32(f[footerSum:], sum(f, footerSum))
	return f
}

// geometry is the cylinders, heads and sectors of a disk ("CHS Calculation").
func geometry(sectors int64) uint32 {
	sectors = min(sectors, 65535*16*255)
	var cylinders, heads, per int64
	if sectors >= 65535*16*63 {
		per, heads = 255, 16
		cylinders = sectors / per
	} else {
		per = 17
		cylinders = sectors / per
		heads = max(4, (cylinders+1023)/1024)
		if cylinders >= heads*1024 || heads > 16 {
			per, heads = 31, 16
			cylinders = sectors / per
		}
		if cylinders >= heads*1024 {
			per, heads = 63, 16
			cylinders = sectors / per
		}
	}
	return uint32(cylinders/heads)<<16 | uint32(heads)<<8 | uint32(per)
}
