// Package vhd reads and writes disk images in the Virtual Hard Disk format (Virtual Hard Disk Image Format
// Specification, version 1.0).
package vhd

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"path"
	"sync"

	"github.com/google/uuid"

	"mintbatch/internal/core/image"
)

// Name is that of the format.
const Name = "vhd"

// Largest is the largest disk that the format has, in bytes.
const Largest = 2040 << 30

const (
	sector     = 512
	footerLen  = 512
	headerLen  = 1024
	unused     = 0xffffffff // an entry of the table of blocks that says nothing
	noOffset   = 0xffffffffffffffff
	mostEntry  = 1 << 22 // blocks of a disk: 2040 GiB in blocks of 512 KiB
	smallBlock = 4096
	bigBlock   = 1 << 28
)

// The types of disks ("Hard Disk Footer Format").
const (
	typeFixed   = 2
	typeDynamic = 3
	typeChild   = 4
)

var (
	cookie = []byte("conectix")
	sparse = []byte("cxsparse")
)

// Is reports whether a file begins or ends like an image of this format.
func Is(head, tail []byte) bool {
	return bytes.HasPrefix(head, cookie) || len(tail) >= footerLen && bytes.HasPrefix(tail[len(tail)-footerLen:], cookie) || len(tail) >= footerLen-1 && bytes.HasPrefix(tail[len(tail)-footerLen+1:], cookie)
}

// sum is the one's complement of the sum of all bytes but those of the sum itself.
func sum(b []byte, at int) uint32 {
	var s uint32
	for i, c := range b {
		if i < at || i >= at+4 {
			s += uint32(c)
		}
	}
	return ^s
}

const (
	footerSum = 64
	headerSum = 36
)

// footer finds the footer: at the end, or where that is damaged the copy at the beginning of a disk that is not fixed.
func footer(file image.File) (f []byte, at int64, remark string, err error) {
	read := func(at int64) []byte {
		f := make([]byte, footerLen)
		if at < 0 || image.ReadFull(file, at, f) != nil || !bytes.HasPrefix(f, cookie) || binary.BigEndian.Uint32(f[footerSum:]) != sum(f, footerSum) {
			return nil
		}
		return f
	}
	end := file.Size() - footerLen
	if f = read(end); f != nil {
		return f, end, "", nil
	}
	short := make([]byte, footerLen) // early writers left out the last byte
	if end+1 >= 0 && image.ReadFull(file, end+1, short[:footerLen-1]) == nil && bytes.HasPrefix(short, cookie) && binary.BigEndian.Uint32(short[footerSum:]) == sum(short, footerSum) {
		return short, end + 1, "", nil
	}
	if f = read(0); f != nil && binary.BigEndian.Uint32(f[60:]) != typeFixed {
		return f, end, "the footer at its end is damaged or missing; its copy at the beginning was taken", nil
	}
	return nil, 0, "", image.Bad("its footer is damaged")
}

// Open opens an image.
func Open(file image.File) (*image.Image, error) {
	f, at, remark, err := footer(file)
	if err != nil {
		return nil, err
	}
	be := binary.BigEndian
	size, kind := int64(be.Uint64(f[48:])), be.Uint32(f[60:])
	i := &image.Image{Format: Name, Version: fmt.Sprintf("%d.%d", be.Uint16(f[12:]), be.Uint16(f[14:])), Identity: uuid.UUID(f[68:84]).String()}
	if remark != "" {
		i.Remarks = append(i.Remarks, remark)
	}
	switch {
	case be.Uint32(f[12:]) != 0x00010000:
		return nil, image.Bad("version %s", i.Version)
	case size <= 0 || size > Largest || size%sector != 0:
		return nil, image.Bad("a disk of %d bytes", size)
	case f[84] != 0:
		return nil, image.Bad("it is of a machine whose state was saved; start and shut down the machine first")
	}
	if kind == typeFixed {
		if size > at {
			return nil, image.Bad("a fixed disk of %d bytes in a file of %d", size, file.Size())
		}
		i.Variant, i.Layer, i.Block = image.Fixed, image.Raw{ReaderAt: file, Size: size}, sector
		i.Check = func() ([]image.Damage, error) { return nil, nil }
		return i, nil
	}
	if kind != typeDynamic && kind != typeChild {
		return nil, image.Bad("a disk of type %d", kind)
	}
	d := &disk{file: file, size: size, child: kind == typeChild, at: -1}
	if err := d.open(int64(be.Uint64(f[16:])), at, i); err != nil {
		return nil, err
	}
	i.Variant, i.Layer, i.Block, i.Check = image.Dynamic, d, d.block, d.check
	if d.child {
		i.Variant = image.Child
	}
	return i, nil
}

// disk is a dynamic disk, or a child.
type disk struct {
	file   image.File
	size   int64
	child  bool
	block  int64
	bitmap int64 // its length in bytes, of whole sectors
	header int64 // where it is
	where  int64 // the table of blocks
	table  []byte
	end    int64 // of blocks: the footer

	mu   sync.Mutex
	at   int64 // the block whose bitmap was read last
	bits []byte
}

// open reads the header ("Dynamic Disk Header Format") and the table of blocks.
func (d *disk) open(at, end int64, i *image.Image) error {
	d.header, d.end = at, end
	h := make([]byte, headerLen)
	if err := image.ReadFull(d.file, at, h); err != nil {
		return err
	}
	be := binary.BigEndian
	entries := int64(be.Uint32(h[28:]))
	d.block, d.where = int64(be.Uint32(h[32:])), int64(be.Uint64(h[16:]))
	switch {
	case !bytes.HasPrefix(h, sparse) || be.Uint32(h[headerSum:]) != sum(h, headerSum):
		return image.Bad("the header at %d is damaged", at)
	case be.Uint32(h[24:]) != 0x00010000:
		return image.Bad("a header of version %d.%d", be.Uint16(h[24:]), be.Uint16(h[26:]))
	case d.block < smallBlock || d.block > bigBlock || d.block&(d.block-1) != 0:
		return image.Bad("blocks of %d bytes", d.block)
	case entries > mostEntry || entries*d.block < d.size:
		return image.Bad("a table of %d blocks of %d bytes for a disk of %d bytes", entries, d.block, d.size)
	}
	d.bitmap = (d.block/sector/8 + sector - 1) / sector * sector
	if entries = (d.size + d.block - 1) / d.block; d.where < 0 || d.where > d.file.Size()-entries*4 {
		return image.Bad("a table of %d blocks at %d, in a file of %d bytes", entries, d.where, d.file.Size())
	}
	d.table = make([]byte, entries*4)
	if err := image.ReadFull(d.file, d.where, d.table); err != nil {
		return err
	}
	if d.child {
		return d.parent(h, i)
	}
	return nil
}

// The kinds of names of a parent ("Parent Locator Entry").
const (
	relativeName = 0x57327275 // W2ru
	absoluteName = 0x57326b75 // W2ku
)

func (d *disk) parent(h []byte, i *image.Image) error {
	be := binary.BigEndian
	i.Parent = &image.Parent{Format: Name, Identity: uuid.UUID(h[40:56]).String()}
	var last []string
	for k := range 8 {
		e := h[576+24*k:]
		kind, length, at := be.Uint32(e), int64(be.Uint32(e[8:])), int64(be.Uint64(e[16:]))
		if kind != relativeName && kind != absoluteName {
			continue
		}
		if length > 4096 {
			return image.Bad("the name of the parent has %d bytes", length)
		}
		text := make([]byte, length)
		if err := image.ReadFull(d.file, at, text); err != nil {
			return err
		}
		name := image.FromWindows(image.UTF16(text, binary.LittleEndian))
		if kind == relativeName {
			i.Parent.Names = append(i.Parent.Names, name)
		} else {
			last = append(last, name, path.Base(name))
		}
	}
	if name := image.FromWindows(image.UTF16(h[64:576], be)); name != "" {
		last = append(last, path.Base(name))
	}
	i.Parent.Names = append(i.Parent.Names, last...)
	return nil
}

// Length implements image.Layer.
func (d *disk) Length() int64 { return d.size }

// place is where the data of a block is; 0 if it has none.
func (d *disk) place(block int64) int64 {
	entry := binary.BigEndian.Uint32(d.table[block*4:])
	if entry == unused {
		return 0
	}
	return int64(entry)*sector + d.bitmap
}

// bitsOf reads the bitmap of a block: for each sector whether it is in the image.
func (d *disk) bitsOf(block int64) ([]byte, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.at != block {
		bits := make([]byte, d.block/sector/8)
		if err := image.ReadFull(d.file, d.place(block)-d.bitmap, bits); err != nil {
			return nil, fmt.Errorf("the bitmap of block %d: %w", block, err)
		}
		d.bits, d.at = bits, block
	}
	return d.bits, nil
}

// Run implements image.Layer.
func (d *disk) Run(at int64) (image.Run, error) {
	if at < 0 || at >= d.size {
		return image.Run{}, image.Bad("nothing is at %d of a disk of %d bytes", at, d.size)
	}
	without := image.Zero
	if d.child {
		without = image.Below
	}
	block := at / d.block
	if d.place(block) == 0 {
		next := block + 1
		for next*d.block < d.size && d.place(next) == 0 {
			next++
		}
		return image.Run{State: without, Length: min(next*d.block, d.size) - at}, nil
	}
	bits, err := d.bitsOf(block)
	if err != nil {
		return image.Run{}, err
	}
	first := at % d.block / sector
	set := func(s int64) bool { return bits[s/8]&(0x80>>(s%8)) != 0 }
	next := first + 1
	for next < d.block/sector && set(next) == set(first) {
		next++
	}
	run := image.Run{State: without, Length: min(block*d.block+next*sector, d.size) - at}
	if set(first) {
		run.State = image.Data
	}
	return run, nil
}

// ReadAt implements io.ReaderAt.
func (d *disk) ReadAt(into []byte, at int64) (int, error) {
	return image.ReadBlocks(d.file, into, at, d.size, d.block, func(block int64) (int64, error) { return d.place(block), nil })
}

// check looks whether blocks share a place or lie behind the end.
func (d *disk) check() ([]image.Damage, error) {
	places := []image.Place{{At: d.header, Length: headerLen, What: "the header"}, {At: d.where, Length: int64(len(d.table)), What: "the table of blocks"}}
	if d.end > 0 {
		places = append(places, image.Place{At: d.end, Length: min(footerLen, d.file.Size()-d.end), What: "the footer"})
	}
	for block := range int64(len(d.table) / 4) {
		if from := d.place(block); from != 0 {
			places = append(places, image.Place{At: from - d.bitmap, Length: d.bitmap + d.block, What: fmt.Sprintf("block %d", block)})
		}
	}
	return image.Overlaps(places, d.file.Size()), nil
}
