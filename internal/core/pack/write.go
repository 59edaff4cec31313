package pack

import (
	"crypto/sha256"
	"fmt"
	"io"
	"runtime"
	"sync"

	"github.com/klauspost/compress/zstd"

	"mintbatch/internal/core/blocks"
)

// encoder compresses frames, for several at once.
var encoder = sync.OnceValue(func() *zstd.Encoder {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderCRC(false))
	if err != nil { // only of options that are wrong
		panic(err)
	}
	return e
})

// Pack is a pack that was written.
type Pack struct {
	Ref
	Content []byte
}

// usualPack is the size from which a pack is full.
const usualPack = 32 << 20

// worth is the share of a pack that has to be needed for it to be used again: who fetches a version fetches all of its
// packs.
const worth = 4

// Write takes a disk apart into packs, each of which is handed on once it is full. What earlier indexes have is not
// written again. The map is that of the disk, which must not change.
func Write(m *blocks.Map, disk io.ReaderAt, earlier []*Index, emit func(Pack) error) (*Index, error) {
	w := &writer{index: &Index{Map: *m, At: make([]Place, len(m.Sums))}, disk: disk, emit: emit, at: map[blocks.Sum]Place{}, packs: map[blocks.Sum]int32{}}
	w.reuse(earlier)
	return w.index, w.write()
}

type writer struct {
	index *Index
	disk  io.ReaderAt
	emit  func(Pack) error
	at    map[blocks.Sum]Place // where a block is already
	packs map[blocks.Sum]int32 // of the index, by digest

	pack   []byte
	frames int // of the index before those of the pack that is being filled
}

// reuse takes over the places of blocks that earlier indexes have, in packs that are worth it.
func (w *writer) reuse(earlier []*Index) {
	wanted := make(map[blocks.Sum]bool, len(w.index.Sums))
	for _, s := range w.index.Sums {
		wanted[s] = true
	}
	for _, of := range earlier {
		used, counted := make([]int64, len(of.Packs)), map[blocks.Sum]bool{}
		for k, s := range of.Sums {
			if f := of.Frames[of.At[k].Frame]; wanted[s] && !counted[s] {
				used[f.Pack] += int64(f.Length) / int64(f.Blocks)
				counted[s] = true
			}
		}
		frames := map[int32]int32{}
		for k, s := range of.Sums {
			f := of.Frames[of.At[k].Frame]
			if _, has := w.at[s]; has || !wanted[s] || used[f.Pack]*worth < of.Packs[f.Pack].Size {
				continue
			}
			frame, has := frames[of.At[k].Frame]
			if !has {
				frame = int32(len(w.index.Frames))
				frames[of.At[k].Frame] = frame
				f.Pack = w.packOf(of.Packs[f.Pack])
				w.index.Frames = append(w.index.Frames, f)
			}
			w.at[s] = Place{frame, of.At[k].Block}
		}
	}
}

func (w *writer) packOf(r Ref) int32 {
	i, has := w.packs[r.Digest]
	if !has {
		i = int32(len(w.index.Packs))
		w.packs[r.Digest] = i
		w.index.Packs = append(w.index.Packs, r)
	}
	return i
}

// job is a frame that is read and compressed beside others.
type job struct {
	blocks []int64
	sums   []blocks.Sum
	done   chan struct{}
	packed []byte
	err    error
}

// write goes through the blocks in order. Frames are compressed side by side and put into packs in order, so that the
// same disk always gives the same packs.
func (w *writer) write() error {
	workers := runtime.GOMAXPROCS(0)
	jobs, order, stop := make(chan *job), make(chan *job, 2*workers), make(chan struct{})
	var all sync.WaitGroup
	for range workers {
		all.Go(func() {
			for j := range jobs {
				j.packed, j.err = w.compress(j)
				close(j.done)
			}
		})
	}
	all.Go(func() {
		defer close(order)
		defer close(jobs)
		send := func(some []int64, sums []blocks.Sum) bool {
			j := &job{blocks: some, sums: sums, done: make(chan struct{})}
			select {
			case order <- j:
			case <-stop:
				return false
			}
			jobs <- j
			return true
		}
		var some []int64
		var sums []blocks.Sum
		next, frame := 0, int32(len(w.index.Frames))
		for block := range blocks.Blocks(w.index.Disk) {
			if !w.index.Has.Has(block) {
				continue
			}
			s := w.index.Sums[next]
			place, has := w.at[s]
			if !has {
				place = Place{frame, uint8(len(some))}
				w.at[s] = place
				some, sums = append(some, block), append(sums, s)
				if len(some) == FrameBlocks {
					if !send(some, sums) {
						return
					}
					some, sums = nil, nil
					frame++
				}
			}
			w.index.At[next] = place
			next++
		}
		if len(some) > 0 {
			send(some, sums)
		}
	})
	var failed error
	for j := range order {
		<-j.done
		if failed != nil {
			continue
		}
		if failed = j.err; failed == nil {
			failed = w.add(j)
		}
		if failed != nil {
			close(stop)
		}
	}
	all.Wait()
	if failed == nil && len(w.pack) > 0 {
		failed = w.flush()
	}
	return failed
}

// compress reads the blocks of a frame, which have to be those of the map.
func (w *writer) compress(j *job) ([]byte, error) {
	content := make([]byte, len(j.blocks)*blocks.Size)
	for i, block := range j.blocks {
		at := block * blocks.Size
		part := content[i*blocks.Size:][:min(blocks.Size, w.index.Disk-at)]
		if n, err := w.disk.ReadAt(part, at); n < len(part) {
			return nil, err
		}
		if sha256.Sum256(content[i*blocks.Size:][:blocks.Size]) != j.sums[i] {
			return nil, fmt.Errorf("%w: block %d was changed since the disk was gone through", ErrContent, block)
		}
	}
	return encoder().EncodeAll(content, make([]byte, 0, len(content)/2)), nil
}

// add puts a frame into the pack that is being filled.
func (w *writer) add(j *job) error {
	if len(w.pack) == 0 {
		w.frames = len(w.index.Frames)
	}
	w.index.Frames = append(w.index.Frames, Frame{Pack: -1, At: uint32(len(w.pack)), Length: uint32(len(j.packed)), Blocks: uint8(len(j.blocks))})
	if w.pack = append(w.pack, j.packed...); len(w.pack) >= usualPack {
		return w.flush()
	}
	return nil
}

// flush hands the pack on.
func (w *writer) flush() error {
	p := Pack{Ref{sha256.Sum256(w.pack), int64(len(w.pack))}, w.pack}
	at := w.packOf(p.Ref)
	for i := w.frames; i < len(w.index.Frames); i++ {
		w.index.Frames[i].Pack = at
	}
	w.pack = nil
	return w.emit(p)
}
