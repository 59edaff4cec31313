package pack

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/zstd"

	"mintbatch/internal/core/blocks"
)

// ErrContent means that a block is not the one that its index names.
var ErrContent = errors.New("a block is not what its index says")

// Disk is what a guest sees of a disk that is kept in packs. Every block that is read is held against its digest. It may be
// read from several sides at once; of what is read from one end to the other, frames are taken apart ahead.
type Disk struct {
	index *Index
	// open opens a pack by its place in the index.
	open func(pack int) io.ReaderAt

	ranks []int32 // how many blocks there are before each word of the map
	sums  []int32 // by frame and block, which entry of the index it is, counted from 1; 0 if none of this disk
	first []int32 // of the sums of each frame

	mu   sync.Mutex
	last []*frame // that were asked for last, the newest first
}

// frame is one that is being taken apart, or was.
type frame struct {
	of      int32
	done    chan struct{}
	content []byte
	err     error
}

// How many frames are kept that were read, and how many are taken apart ahead.
const (
	keptFrames = 24
	ahead      = 4
)

// decoder takes frames apart, several at once.
var decoder = sync.OnceValue(func() *zstd.Decoder {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(mostFrame))
	if err != nil { // only of options that are wrong
		panic(err)
	}
	return d
})

// NewDisk is the disk of an index. It fails for an index that contradicts itself.
func NewDisk(index *Index, open func(pack int) io.ReaderAt) (*Disk, error) {
	disk := &Disk{index: index, open: open, ranks: make([]int32, len(index.Has)+1), first: make([]int32, len(index.Frames)+1)}
	for i := range index.Has {
		disk.ranks[i+1] = disk.ranks[i] + int32(index.Has[i:i+1].Count())
	}
	for i, f := range index.Frames {
		disk.first[i+1] = disk.first[i] + int32(f.Blocks)
	}
	disk.sums = make([]int32, disk.first[len(index.Frames)])
	for i, place := range index.At {
		at := &disk.sums[disk.first[place.Frame]+int32(place.Block)]
		if *at > 0 && index.Sums[*at-1] != index.Sums[i] {
			return nil, bad("two blocks are said to be in the same place")
		}
		*at = int32(i) + 1
	}
	return disk, nil
}

// Written implements blocks.Source.
func (d *Disk) Written(at, n int64) (bool, error) {
	for block := at / blocks.Size; block*blocks.Size < at+n; block++ {
		if d.index.Has.Has(block) {
			return true, nil
		}
	}
	return false, nil
}

// ReadAt implements io.ReaderAt.
func (d *Disk) ReadAt(p []byte, at int64) (n int, err error) {
	for n < len(p) {
		here := at + int64(n)
		if here >= d.index.Disk {
			return n, io.EOF
		}
		block := here / blocks.Size
		skip := here % blocks.Size
		part := p[n:min(int64(len(p)), int64(n)+blocks.Size-skip, int64(n)+d.index.Disk-here)]
		if !d.index.Has.Has(block) {
			clear(part)
		} else {
			content, err := d.block(block)
			if err != nil {
				return n, err
			}
			copy(part, content[skip:])
		}
		n += len(part)
	}
	return n, nil
}

// rank is the place of a block among those of the map.
func (d *Disk) rank(block int64) int32 {
	word := block / 64
	r := d.ranks[word]
	for b := word * 64; b < block; b++ {
		if d.index.Has.Has(b) {
			r++
		}
	}
	return r
}

func (d *Disk) block(block int64) ([]byte, error) {
	place := d.index.At[d.rank(block)]
	f := d.frame(place.Frame)
	<-f.done
	if f.err != nil {
		return nil, f.err
	}
	return f.content[int(place.Block)*blocks.Size:][:blocks.Size], nil
}

// frame is a frame that was asked for; it and some that follow are taken apart beside their reader.
func (d *Disk) frame(of int32) *frame {
	d.mu.Lock()
	defer d.mu.Unlock()
	f := d.begin(of)
	for next := of + 1; next <= of+ahead && int(next) < len(d.index.Frames) && d.index.Frames[next].Pack == d.index.Frames[of].Pack; next++ {
		d.begin(next)
	}
	return f
}

// begin has a frame taken apart, unless it is already; the lock is held.
func (d *Disk) begin(of int32) *frame {
	for i, f := range d.last {
		if f.of == of {
			copy(d.last[1:i+1], d.last[:i])
			d.last[0] = f
			return f
		}
	}
	f := &frame{of: of, done: make(chan struct{})}
	d.last = append([]*frame{f}, d.last[:min(len(d.last), keptFrames-1)]...)
	go func() {
		defer close(f.done)
		f.content, f.err = d.decode(of)
	}()
	return f
}

// decode takes a frame apart, and holds its blocks against their digests.
func (d *Disk) decode(of int32) ([]byte, error) {
	f := d.index.Frames[of]
	packed := make([]byte, f.Length)
	if n, err := d.open(int(f.Pack)).ReadAt(packed, int64(f.At)); n < len(packed) {
		return nil, err
	}
	content, err := decoder().DecodeAll(packed, make([]byte, 0, int(f.Blocks)*blocks.Size))
	if err != nil || len(content) != int(f.Blocks)*blocks.Size {
		return nil, fmt.Errorf("%w: a frame of pack %s cannot be decompressed", ErrContent, d.index.Packs[f.Pack])
	}
	for i, entry := range d.sums[d.first[of]:d.first[of+1]] {
		if entry > 0 && sha256.Sum256(content[i*blocks.Size:][:blocks.Size]) != d.index.Sums[entry-1] {
			return nil, fmt.Errorf("%w: block %d of a frame of pack %s", ErrContent, i, d.index.Packs[f.Pack])
		}
	}
	return content, nil
}
