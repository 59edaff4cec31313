// Package pack keeps the disks of templates as packs: files of compressed frames of a few blocks each. An index
// tells where in which pack each block of a disk is, so that versions share what they have in common.
package pack

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math"

	"github.com/klauspost/compress/zstd"

	"mintbatch/internal/core/blocks"
	"mintbatch/internal/core/image/qcow2"
)

// Index tells where the blocks of a disk are.
type Index struct {
	blocks.Map
	Packs  []Ref
	Frames []Frame
	// At are the places of the blocks, in the order of the map.
	At []Place
}

// Ref names a pack by the SHA-256 of its content, with its size in bytes.
type Ref struct {
	Digest blocks.Sum
	Size   int64
}

// String is the digest as registries write it.
func (r Ref) String() string { return "sha256:" + hex.EncodeToString(r.Digest[:]) }

// Frame is a part of a pack that is compressed by itself (RFC 8878), of so many blocks.
type Frame struct {
	Pack   int32
	At     uint32 // its first byte
	Length uint32
	Blocks uint8
}

// Place is where a block is: in which frame, and as which of its blocks.
type Place struct {
	Frame int32
	Block uint8
}

// The bounds of what is taken for an index: of a disk, and of what is on it.
const (
	mostDisk   = 16 << 40
	mostBlocks = 16 << 20 // 1 TiB of content
	// FrameBlocks is how many blocks a frame has at most.
	FrameBlocks = 16
	mostFrame   = FrameBlocks*blocks.Size + 64<<10
)

// ErrIndex is what every failure to understand an index unwraps to.
var ErrIndex = errors.New("not an index of a template")

func bad(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrIndex, fmt.Sprintf(format, args...))
}

const magic = "MBINDEX1"

// Encode writes the index: the sizes, packs and frames, then for each block how far it is from the one before,
// its place and its digest; all of it compressed.
func (i *Index) Encode() []byte { return encoder().EncodeAll(i.plain(), nil) }

func (i *Index) plain() []byte {
	b := []byte(magic)
	number := func(n int64) { b = binary.AppendUvarint(b, uint64(n)) }
	number(i.Disk)
	number(int64(len(i.Packs)))
	for _, p := range i.Packs {
		b = append(b, p.Digest[:]...)
		number(p.Size)
	}
	number(int64(len(i.Frames)))
	for _, f := range i.Frames {
		number(int64(f.Pack))
		number(int64(f.At))
		number(int64(f.Length))
		b = append(b, f.Blocks)
	}
	number(int64(len(i.Sums)))
	last, next := int64(-1), 0
	for block := range blocks.Blocks(i.Disk) {
		if !i.Has.Has(block) {
			continue
		}
		number(block - last)
		last = block
		number(int64(i.At[next].Frame))
		b = append(b, i.At[next].Block)
		b = append(b, i.Sums[next][:]...)
		next++
	}
	return b
}

// mostIndex bounds an index that is taken apart.
const mostIndex = 1 << 30

// Decode reads an index, which may be anything.
func Decode(compressed []byte) (*Index, error) {
	b, err := decoded(compressed)
	if err != nil {
		return nil, bad("%s", err)
	}
	return parse(b)
}

func parse(b []byte) (*Index, error) {
	r := reader{rest: b}
	if string(r.bytes(len(magic))) != magic {
		return nil, bad("it does not begin as one does")
	}
	i := &Index{}
	i.Disk = r.number(mostDisk)
	for range r.count(sumSize + 1) {
		p := Ref{Digest: r.sum(), Size: r.number(math.MaxInt64)}
		i.Packs = append(i.Packs, p)
	}
	for range r.count(4) {
		f := Frame{Pack: int32(r.number(math.MaxInt32)), At: uint32(r.number(math.MaxUint32)), Length: uint32(r.number(mostFrame)), Blocks: r.byte()}
		if r.failed == nil && (int(f.Pack) >= len(i.Packs) || int64(f.At)+int64(f.Length) > i.Packs[f.Pack].Size || f.Blocks == 0 || f.Blocks > FrameBlocks || f.Length == 0) {
			r.failed = bad("a frame lies outside of its pack")
		}
		if r.failed != nil {
			return nil, r.failed
		}
		i.Frames = append(i.Frames, f)
	}
	n := r.count(sumSize + 3)
	if r.failed != nil {
		return nil, r.failed
	}
	if n > mostBlocks {
		return nil, bad("more than %d blocks", mostBlocks)
	}
	i.Has = qcow2.NewClusters(i.Disk)
	for block := int64(-1); n > 0; n-- {
		step := r.number(mostDisk)
		place := Place{Frame: int32(r.number(math.MaxInt32)), Block: r.byte()}
		sum := r.sum()
		if block += step; r.failed == nil && (step == 0 || block >= blocks.Blocks(i.Disk) || int(place.Frame) >= len(i.Frames) || place.Block >= i.Frames[place.Frame].Blocks) {
			r.failed = bad("a block lies outside of the disk or its frame")
		}
		if r.failed != nil {
			return nil, r.failed
		}
		i.Has.Add(block)
		i.At, i.Sums = append(i.At, place), append(i.Sums, sum)
	}
	if len(r.rest) > 0 {
		return nil, bad("something follows its end")
	}
	return i, nil
}

func decoded(compressed []byte) ([]byte, error) {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostIndex))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return d.DecodeAll(compressed, nil)
}

const sumSize = len(blocks.Sum{})

// reader reads numbers of which each may be wrong; the first failure stays.
type reader struct {
	rest   []byte
	failed error
}

func (r *reader) bytes(n int) []byte {
	if r.failed == nil && len(r.rest) < n {
		r.failed = bad("it ends too early")
	}
	if r.failed != nil {
		return make([]byte, n)
	}
	b := r.rest[:n]
	r.rest = r.rest[n:]
	return b
}

func (r *reader) byte() uint8 { return r.bytes(1)[0] }

func (r *reader) sum() blocks.Sum { return blocks.Sum(r.bytes(sumSize)) }

func (r *reader) number(most uint64) int64 {
	n, size := binary.Uvarint(r.rest)
	if r.failed == nil && (size <= 0 || n > most) {
		r.failed = bad("a number is too large")
	}
	if r.failed != nil {
		return 0
	}
	r.rest = r.rest[size:]
	return int64(n)
}

// count is how many entries of at least so many bytes follow: never more than there are bytes for.
func (r *reader) count(each int) int {
	n := r.number(math.MaxInt32)
	if r.failed == nil && n > int64(len(r.rest)/each) {
		r.failed = bad("it has not as many entries as it says")
	}
	if r.failed != nil {
		return 0
	}
	return int(n)
}
