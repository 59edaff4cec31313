package vhdx

import (
	"fmt"
	"io"

	"github.com/google/uuid"

	"mintbatch/internal/core/image"
)

// What is written: where everything is, and how large blocks are.
const (
	writeBlock  = 2 * mib
	writeSector = 512
	writeRatio  = (1 << 23) * writeSector / writeBlock
	chunkBits   = 1 << 23 / 8 // the bytes of a bitmap

	logAt  = mib
	metaAt = 2 * mib
	batAt  = 3 * mib
)

// Create begins to write an image.
func Create(to io.WriterAt, o image.Order) (image.Writer, error) {
	size := (o.Size + writeSector - 1) / writeSector * writeSector
	if size <= 0 || size > Largest {
		return nil, fmt.Errorf("a VHDX image has a disk of 512 bytes to 64 TiB, not of %d bytes", o.Size)
	}
	if o.Variant == image.Stream {
		return nil, fmt.Errorf("a VHDX image cannot be %s", o.Variant)
	}
	w := &writer{to: to, size: size, order: o, current: -1, chunk: -1}
	blocks := (size + writeBlock - 1) / writeBlock
	entries := blocks + (blocks-1)/writeRatio
	if o.Parent != nil {
		if o.Parent.Format != Name || o.Parent.Identity == "" {
			return nil, fmt.Errorf("the parent of a VHDX image is a VHDX image, not %s", o.Parent.Format)
		}
		entries = (blocks + writeRatio - 1) / writeRatio * (writeRatio + 1)
		w.bits = make([]byte, chunkBits)
	}
	w.table = make([]byte, entries*8)
	w.batLen = (int64(len(w.table)) + mib - 1) / mib * mib
	w.next = batAt + w.batLen
	if o.Variant == image.Fixed {
		for block := range blocks {
			w.set(block+block/writeRatio, present, w.next)
			w.next += writeBlock
		}
	}
	return w, nil
}

// writer puts blocks one after the other; tables and headers come last.
type writer struct {
	to           io.WriterAt
	size         int64
	order        image.Order
	table        []byte
	batLen, next int64

	current, place, full int64  // the block that is being filled, where it is, how much of it was given
	chunk, bitmap        int64  // the chunk whose bitmap is being filled, and where that goes
	bits                 []byte // of a child
}

func (w *writer) set(index, state, at int64) { le.PutUint64(w.table[index*8:], uint64(at|state)) }

// Block implements image.Writer.
func (*writer) Block() int64 { return 4096 }

// Prepare implements image.Writer.
func (w *writer) Prepare(at int64, content []byte) (func() error, error) {
	return func() error { return image.InBlocks(at, content, writeBlock, w.put) }, nil
}

// put writes a part of one block.
func (w *writer) put(at int64, content []byte) error {
	if block := at / writeBlock; block != w.current {
		if err := w.turn(block); err != nil {
			return err
		}
	}
	_, err := w.to.WriteAt(content, w.place+at%writeBlock)
	w.full += int64(len(content))
	if w.bits != nil {
		first := at / writeSector % (1 << 23)
		for s := first; s < first+(int64(len(content))+writeSector-1)/writeSector; s++ {
			w.bits[s/8] |= 1 << (s % 8)
		}
	}
	return err
}

// turn ends a block and begins another one.
func (w *writer) turn(block int64) error {
	if w.order.Variant == image.Fixed {
		w.current, w.place = block, batAt+w.batLen+block*writeBlock
		return nil
	}
	w.end()
	if chunk := block / writeRatio; w.bits != nil && chunk != w.chunk {
		if err := w.flush(); err != nil {
			return err
		}
		w.chunk, w.bitmap = chunk, w.next
		w.next += mib
	}
	w.current, w.place, w.full = block, w.next, 0
	w.next += writeBlock
	return nil
}

// end notes where the block is that was filled. The last one of a disk is full when all of the disk is there.
func (w *writer) end() {
	if w.current < 0 || w.order.Variant == image.Fixed {
		return
	}
	state := int64(present)
	if w.bits != nil && w.full < min(writeBlock, w.size-w.current*writeBlock) {
		state = partly
	}
	w.set(w.current+w.current/writeRatio, state, w.place)
}

// flush writes the bitmap of a chunk.
func (w *writer) flush() error {
	if w.chunk < 0 {
		return nil
	}
	w.set((w.chunk+1)*(writeRatio+1)-1, present, w.bitmap)
	_, err := w.to.WriteAt(w.bits, w.bitmap)
	clear(w.bits)
	return err
}

// Close implements image.Writer.
func (w *writer) Close() (int64, error) {
	w.end()
	if err := w.flush(); err != nil {
		return 0, err
	}
	type part struct {
		at   int64
		what []byte
	}
	meta, err := w.metadata()
	if err != nil {
		return 0, err
	}
	var id [520]byte
	copy(id[:], "vhdxfile")
	parts := []part{{batAt, w.table}, {metaAt, meta[:64*kib]}, {metaAt + 64*kib, meta[64*kib:]}}
	for _, at := range regionsAt {
		parts = append(parts, part{at, w.regions()})
	}
	for n, at := range headersAt {
		parts = append(parts, part{at, w.header(uint64(n + 1))})
	}
	for _, p := range append(parts, part{0, id[:]}) { // without the last it is no image
		if _, err := w.to.WriteAt(p.what, p.at); err != nil {
			return 0, err
		}
	}
	return w.next, nil
}

// header is one of the two headers.
func (w *writer) header(sequence uint64) []byte {
	b := make([]byte, headerLen)
	copy(b, "head")
	le.PutUint64(b[8:], sequence)
	image.PutGUID(b[16:], uuid.NewSHA1(w.order.Identity, []byte("file")))
	image.PutGUID(b[32:], w.order.Identity)
	le.PutUint16(b[66:], 1)
	le.PutUint32(b[68:], mib)
	le.PutUint64(b[72:], logAt)
	le.PutUint32(b[4:], sum(b))
	return b
}

func (w *writer) regions() []byte {
	b := make([]byte, regionLen)
	copy(b, "regi")
	le.PutUint32(b[8:], 2)
	for k, r := range []struct {
		id         uuid.UUID
		at, length int64
	}{{batRegion, batAt, w.batLen}, {metadataRegion, metaAt, mib}} {
		e := b[16+32*k:]
		image.PutGUID(e, r.id)
		le.PutUint64(e[16:], uint64(r.at))
		le.PutUint32(e[24:], uint32(r.length))
		le.PutUint32(e[28:], 1)
	}
	le.PutUint32(b[4:], sum(b))
	return b
}

// metadata is the table, and the items after it.
func (w *writer) metadata() ([]byte, error) {
	number := func(n uint64, length int) []byte { return le.AppendUint64(nil, n)[:length] }
	id := make([]byte, 16)
	image.PutGUID(id, uuid.NewSHA1(w.order.Identity, []byte("disk")))
	flags := uint64(0)
	if w.order.Variant == image.Fixed {
		flags = 1
	}
	type item struct {
		id      uuid.UUID
		of      uint32 // 2: of the disk, and 4: needed
		content []byte
	}
	items := []item{{diskSize, 6, number(uint64(w.size), 8)}, {diskID, 6, id}, {logicalSector, 6, number(writeSector, 4)}, {physicalSector, 6, number(4096, 4)}}
	if w.order.Parent != nil {
		flags |= 2
		locator, err := locatorOf(w.order.Parent.Identity, w.order.ParentName)
		if err != nil {
			return nil, err
		}
		items = append(items, item{parentLocator, 4, locator})
	}
	items = append(items, item{fileParameters, 4, number(writeBlock|flags<<32, 8)})
	b := make([]byte, 64*kib)
	copy(b, "metadata")
	le.PutUint16(b[10:], uint16(len(items)))
	for k, i := range items {
		e := b[32+32*k:]
		image.PutGUID(e, i.id)
		le.PutUint32(e[16:], uint32(len(b)))
		le.PutUint32(e[20:], uint32(len(i.content)))
		le.PutUint32(e[24:], i.of)
		b = append(b, i.content...)
		b = append(b, make([]byte, (8-len(b)%8)%8)...)
	}
	return b, nil
}

// locatorOf says which the parent is.
func locatorOf(id, name string) ([]byte, error) {
	is, err := uuid.Parse(id)
	if err != nil {
		return nil, fmt.Errorf("the identity of the parent: %w", err)
	}
	pairs := [][2]string{{"parent_linkage", "{" + is.String() + "}"}, {"relative_path", image.ToWindows(name)}}
	b := make([]byte, 20+12*len(pairs))
	image.PutGUID(b, locatorType)
	le.PutUint16(b[18:], uint16(len(pairs)))
	for k, p := range pairs {
		key, value := image.ToUTF16(p[0], le), image.ToUTF16(p[1], le)
		if len(value) > 32*kib {
			return nil, fmt.Errorf("the name of the parent is too long: %s", name)
		}
		e := b[20+12*k:]
		le.PutUint32(e, uint32(len(b)))
		le.PutUint32(e[4:], uint32(len(b)+len(key)))
		le.PutUint16(e[8:], uint16(len(key)))
		le.PutUint16(e[10:], uint16(len(value)))
		b = append(append(b, key...), value...)
	}
	return b, nil
}
