package vhdx

import (
	"fmt"
	"path"
	"strings"
	"sync"

	"github.com/google/uuid"

	"mintbatch/internal/core/image"
)

// mostTable is the longest table of blocks that is read.
const mostTable = 512 * mib

// What an entry of the table of blocks says ([MS-VHDX], 2.5.1.1).
const (
	notPresent = 0
	undefined  = 1
	zero       = 2
	unmapped   = 3
	present    = 6
	partly     = 7

	stateBits = 7
	placeBits = ^uint64(mib - 1)
)

// disk is the disk of an image.
type disk struct {
	*metadata
	file   image.File
	bat    region
	meta   region
	log    region
	ratio  int64 // blocks of a chunk
	blocks int64
	table  []byte

	mu    sync.Mutex
	chunk int64 // whose bitmap was read last, in part
	from  int64
	bits  []byte
}

// Open opens an image, with what its log says.
func Open(file image.File) (*image.Image, error) {
	h, remarks, err := newest(file)
	if err != nil {
		return nil, err
	}
	whole, err := replay(file, h)
	if err != nil {
		return nil, err
	}
	if h.log != uuid.Nil {
		remarks = append(remarks, "it was not closed in order; what its log says was taken into account")
	}
	parts, more, err := regions(whole)
	if err != nil {
		return nil, err
	}
	meta, err := readMetadata(whole, parts[metadataRegion])
	if err != nil {
		return nil, err
	}
	d := &disk{metadata: meta, file: whole, bat: parts[batRegion], meta: parts[metadataRegion], log: region{h.logAt, h.logLength}, chunk: -1}
	d.ratio = (1 << 23) * meta.sector / meta.block
	d.blocks = (meta.size + meta.block - 1) / meta.block
	length := d.index(d.blocks-1) + 1
	if meta.child {
		length = (d.blocks + d.ratio - 1) / d.ratio * (d.ratio + 1)
	}
	if length *= 8; length > mostTable || length > d.bat.length {
		return nil, image.Bad("a table of blocks of %d bytes in a region of %d", length, d.bat.length)
	}
	d.table = make([]byte, length)
	if err := image.ReadFull(whole, d.bat.at, d.table); err != nil {
		return nil, err
	}
	i := &image.Image{Layer: d, Format: Name, Version: "2", Variant: image.Dynamic, Block: meta.block, Identity: h.dataWrite.String(), Remarks: append(remarks, more...), Check: d.check}
	switch {
	case meta.child:
		i.Variant, i.Parent = image.Child, parent(meta.locator)
	case meta.fixed:
		i.Variant = image.Fixed
	}
	return i, nil
}

func parent(locator map[string]string) *image.Parent {
	p := &image.Parent{Format: Name, Identity: strings.ToLower(strings.Trim(locator["parent_linkage"], "{}"))}
	if name := image.FromWindows(locator["relative_path"]); name != "" {
		p.Names = append(p.Names, name)
	}
	for _, key := range []string{"absolute_win32_path", "volume_path"} {
		if name := image.FromWindows(strings.TrimPrefix(locator[key], `\\?\`)); name != "" {
			p.Names = append(p.Names, name, path.Base(name))
		}
	}
	return p
}

// index is where the entry of a block is in the table: after those of a chunk is that of its bitmap.
func (d *disk) index(block int64) int64 { return block + block/d.ratio }

func (d *disk) entry(index int64) (state, at int64) {
	e := le.Uint64(d.table[index*8:])
	return int64(e & stateBits), int64(e & placeBits)
}

// Length implements image.Layer.
func (d *disk) Length() int64 { return d.size }

// Run implements image.Layer.
func (d *disk) Run(at int64) (image.Run, error) {
	if at < 0 || at >= d.size {
		return image.Run{}, image.Bad("nothing is at %d of a disk of %d bytes", at, d.size)
	}
	block := at / d.block
	is, err := d.state(block)
	if err != nil {
		return image.Run{}, err
	}
	if is == partly {
		return d.sectors(block, at)
	}
	next := block + 1
	for next < d.blocks {
		if also, err := d.state(next); err != nil || also != is {
			break
		}
		next++
	}
	run := image.Run{State: image.Zero, Length: min(next*d.block, d.size) - at}
	switch {
	case is == present:
		run.State = image.Data
	case is == notPresent && d.child:
		run.State = image.Below
	}
	return run, nil
}

// state is what the table says of a block, and an error if it says what it cannot.
func (d *disk) state(block int64) (int64, error) {
	state, at := d.entry(d.index(block))
	switch state {
	case notPresent, undefined, zero, unmapped:
		return state, nil
	case present, partly:
		if state == partly && !d.child {
			return 0, image.Bad("block %d is there in part, and there is no parent", block)
		}
		if at < mib {
			return 0, image.Bad("block %d is said to be at %d", block, at)
		}
		return state, nil
	}
	return 0, image.Bad("block %d is in the state %d", block, state)
}

// window is how much of a bitmap is read at once.
const window = 64 * kib

// sectors looks up in the bitmap of a chunk what of a block is in the image ([MS-VHDX], 2.5.1.2).
func (d *disk) sectors(block, at int64) (image.Run, error) {
	chunk := block / d.ratio
	state, where := d.entry((chunk+1)*(d.ratio+1) - 1)
	if state != present || where < mib {
		return image.Run{}, image.Bad("block %d is there in part, and there is no bitmap for it", block)
	}
	first := at / d.sector % (1 << 23) // of the chunk
	end := first - first%(d.block/d.sector) + d.block/d.sector
	end = min(end, (d.size+d.sector-1)/d.sector-chunk<<23)
	from := first / 8 / window * window
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.chunk != chunk || d.from != from || d.bits == nil {
		bits := make([]byte, window)
		if err := image.ReadFull(d.file, where+from, bits); err != nil {
			return image.Run{}, err
		}
		d.chunk, d.from, d.bits = chunk, from, bits
	}
	set := func(s int64) bool { return d.bits[s/8-from]&(1<<(s%8)) != 0 }
	next := first + 1
	for end = min(end, (from+window)*8); next < end && set(next) == set(first); {
		next++
	}
	run := image.Run{State: image.Below, Length: min((chunk<<23+next)*d.sector, d.size) - at}
	if set(first) {
		run.State = image.Data
	}
	return run, nil
}

// ReadAt implements io.ReaderAt.
func (d *disk) ReadAt(into []byte, at int64) (int, error) {
	return image.ReadBlocks(d.file, into, at, d.size, d.block, func(block int64) (int64, error) {
		if is, err := d.state(block); err != nil || is != present && is != partly {
			return 0, err
		}
		_, from := d.entry(d.index(block))
		return from, nil
	})
}

// check looks whether blocks share a place or lie behind the end.
func (d *disk) check() ([]image.Damage, error) {
	places := []image.Place{{Length: mib, What: "the headers"}, {At: d.bat.at, Length: d.bat.length, What: "the table of blocks"}, {At: d.meta.at, Length: d.meta.length, What: "the metadata"}}
	if d.log.length > 0 {
		places = append(places, image.Place{At: d.log.at, Length: d.log.length, What: "the log"})
	}
	var found []image.Damage
	for block := range d.blocks {
		state, err := d.state(block)
		if err != nil {
			found = append(found, image.Damage{At: d.bat.at + d.index(block)*8, What: strings.TrimPrefix(err.Error(), image.ErrImage.Error()+": ")})
			continue
		}
		if state != present && state != partly {
			continue
		}
		_, at := d.entry(d.index(block))
		places = append(places, image.Place{At: at, Length: d.block, What: fmt.Sprintf("block %d", block)})
		if state == partly {
			if is, at := d.entry((block/d.ratio+1)*(d.ratio+1) - 1); is != present || at < mib {
				found = append(found, image.Damage{At: d.bat.at + d.index(block)*8, What: fmt.Sprintf("block %d is there in part, and there is no bitmap for it", block)})
			}
		}
	}
	for chunk := int64(0); d.child && chunk < (d.blocks+d.ratio-1)/d.ratio; chunk++ {
		if state, at := d.entry((chunk+1)*(d.ratio+1) - 1); state == present {
			places = append(places, image.Place{At: at, Length: mib, What: fmt.Sprintf("bitmap %d", chunk)})
		}
	}
	return append(found, image.Overlaps(places, d.file.Size())...), nil
}
