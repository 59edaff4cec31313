// Package qcow2 reads disk images in QEMU's format (QEMU: docs/interop/qcow2.txt), as they are
// or as they were at a checkpoint inside of them.
package qcow2

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"sync"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"

	"mintbatch/internal/core/image"
)

var bad, readFull = image.Bad, image.ReadFull

// The bounds of what is read into memory of an image that may be anything.
const (
	mostSnapshots = 1 << 16
	mostTable     = 32 << 20 // bytes of a table of the first level, as QEMU has it
)

// The incompatible features (qcow2.txt, "Header"): a dirty image is consistent but for its
// reference counts, which only a check asks for.
const (
	dirty       = 1 << 0
	corrupt     = 1 << 1
	external    = 1 << 2
	compression = 1 << 3
	subclusters = 1 << 4
)

// zstdMethod is the method of compression other than deflate (qcow2.txt, "Header", byte 104).
const zstdMethod = 1

// backingFormat is the type of the header extension with the format of the backing file.
const backingFormat = 0xE2792ACA

// Image is an image that was opened.
type Image struct {
	file    io.ReaderAt
	version int
	bits    uint
	size    int64
	table   uint64 // where the table of the first level is
	entries uint32
	backing string
	format  string // of the backing file
	zstd    bool
	dirty   bool
	states  []State

	counts, countClusters, countBits int64 // where the table of reference counts is, its size, and the bits of a count
}

// State is a checkpoint inside of an image.
type State struct {
	Name string
	Size int64 // of the disk then

	table   uint64
	entries uint32
}

// Open reads what an image says of itself.
func Open(file io.ReaderAt) (*Image, error) {
	var h struct {
		Magic, Version              uint32
		BackingAt                   uint64
		BackingSize, ClusterBits    uint32
		Size                        uint64
		Crypt, L1Size               uint32
		L1At, RefcountAt            uint64
		RefcountClusters, Snapshots uint32
		SnapshotsAt                 uint64
	}
	if err := readAt(file, 0, &h); err != nil {
		return nil, err
	}
	switch {
	case h.Magic != 0x514649fb:
		return nil, bad("it does not begin with the format's magic number")
	case h.Version != 2 && h.Version != 3:
		return nil, bad("version %d", h.Version)
	case h.ClusterBits < 9 || h.ClusterBits > 21:
		return nil, bad("clusters of 2^%d bytes", h.ClusterBits)
	case h.Crypt != 0:
		return nil, bad("it is encrypted")
	case h.Size > 1<<62:
		return nil, bad("a disk of %d bytes", h.Size)
	case h.Snapshots > mostSnapshots:
		return nil, bad("%d checkpoints", h.Snapshots)
	case h.BackingSize > 1023:
		return nil, bad("a backing file with a name of %d bytes", h.BackingSize)
	}
	i := &Image{file: file, version: int(h.Version), bits: uint(h.ClusterBits), size: int64(h.Size), table: h.L1At, entries: h.L1Size, counts: int64(h.RefcountAt), countClusters: int64(h.RefcountClusters), countBits: 16}
	length := int64(72)
	if h.Version == 3 {
		var features uint64
		if err := readAt(file, 72, &features); err != nil {
			return nil, err
		}
		var more struct{ Order, Length uint32 }
		if err := readAt(file, 96, &more); err != nil {
			return nil, err
		}
		i.dirty = features&dirty != 0
		switch {
		case features&corrupt != 0:
			return nil, bad("it is marked as corrupt")
		case features&external != 0:
			return nil, bad("its data is in another file")
		case features&subclusters != 0:
			return nil, bad("it has clusters that are divided (extended_l2)")
		case features&^(dirty|compression) != 0:
			return nil, bad("it has the features %#x", features)
		case more.Order > 6:
			return nil, bad("reference counts of 2^%d bits", more.Order)
		case more.Length < 104 || more.Length > 1<<h.ClusterBits || more.Length%8 != 0:
			return nil, bad("a header of %d bytes", more.Length)
		}
		i.countBits, length = 1<<more.Order, int64(more.Length)
		if features&compression != 0 {
			var method [1]byte
			if err := readFull(file, 104, method[:]); err != nil {
				return nil, err
			}
			if i.zstd = method[0] == zstdMethod; method[0] > zstdMethod || length < 112 {
				return nil, bad("it is compressed by method %d", method[0])
			}
		}
	}
	if err := i.extensions(length); err != nil {
		return nil, err
	}
	if h.BackingAt != 0 && h.BackingSize > 0 {
		name := make([]byte, h.BackingSize)
		if err := readFull(file, int64(h.BackingAt), name); err != nil {
			return nil, err
		}
		i.backing = string(name)
	}
	if err := i.check(i.size, i.table, i.entries); err != nil {
		return nil, err
	}
	return i, i.readStates(int64(h.SnapshotsAt), int(h.Snapshots))
}

// extensions reads what follows the header (qcow2.txt, "Header extensions").
func (i *Image) extensions(at int64) error {
	for range 64 {
		var e struct{ Kind, Length uint32 }
		if err := readAt(i.file, at, &e); err != nil || e.Kind == 0 {
			return nil // an image of version 2 may end with its header
		}
		if int64(e.Length) > 1<<i.bits {
			return bad("a header extension of %d bytes", e.Length)
		}
		if e.Kind == backingFormat && e.Length < 64 {
			name := make([]byte, e.Length)
			if err := readFull(i.file, at+8, name); err != nil {
				return err
			}
			i.format = string(name)
		}
		at += 8 + int64(e.Length+7)&^7
	}
	return nil
}

// check holds a table of the first level against the size of the disk that it is for.
func (i *Image) check(size int64, table uint64, entries uint32) error {
	each := int64(1) << (2*i.bits - 3) // bytes that an entry stands for
	needs := size / each
	if size%each > 0 {
		needs++
	}
	switch {
	case size < 0 || int64(entries) < needs:
		return bad("a table of %d entries for a disk of %d bytes", entries, size)
	case int64(entries)*8 > mostTable:
		return bad("a table of %d entries", entries)
	case table > 1<<62:
		return bad("a table at %d", table)
	}
	return nil
}

// readStates reads the table of snapshots (qcow2.txt, "Snapshots").
func (i *Image) readStates(at int64, n int) error {
	for range n {
		var s struct {
			L1At                 uint64
			L1Size               uint32
			IDSize, NameSize     uint16
			Seconds, Nanoseconds uint32
			Clock                uint64
			StateSize, ExtraSize uint32
		}
		if err := readAt(i.file, at, &s); err != nil {
			return err
		}
		at += 40
		if s.ExtraSize > 1<<16 {
			return bad("a checkpoint with %d bytes of extra data", s.ExtraSize)
		}
		rest := make([]byte, int(s.ExtraSize)+int(s.IDSize)+int(s.NameSize))
		if err := readFull(i.file, at, rest); err != nil {
			return err
		}
		at += int64(len(rest)+7) &^ 7
		state := State{Name: string(rest[int(s.ExtraSize)+int(s.IDSize):]), Size: i.size, table: s.L1At, entries: s.L1Size}
		if s.ExtraSize >= 16 {
			state.Size = int64(binary.BigEndian.Uint64(rest[8:]))
		}
		if err := i.check(state.Size, state.table, state.entries); err != nil {
			return err
		}
		i.states = append(i.states, state)
	}
	return nil
}

// Backing is the name of the file that the image is a child of; empty if it is none.
func (i *Image) Backing() string { return i.backing }

// States lists the checkpoints.
func (i *Image) States() []State { return i.states }

// Now is the disk as it is.
func (i *Image) Now() *Disk { return &Disk{image: i, Size: i.size, table: i.table, entries: i.entries} }

// At is the disk as it was at a checkpoint, by whose name in whatever letter case it is found.
func (i *Image) At(name string) (*Disk, bool) {
	for _, s := range i.states {
		if strings.EqualFold(s.Name, name) {
			return &Disk{image: i, Size: s.Size, table: s.table, entries: s.entries}, true
		}
	}
	return nil, false
}

// Disk is what a guest sees of an image. It may be read from several sides at once.
type Disk struct {
	Size    int64
	image   *Image
	table   uint64
	entries uint32

	mu     sync.Mutex
	first  []uint64 // the table of the first level
	second []uint64 // a table of the second level, and whose it is
	of     int64
}

// Cluster is how many bytes Read gives at once.
func (d *Disk) Cluster() int64 { return 1 << d.image.bits }

// The bits of entries of tables (qcow2.txt, "Cluster mapping").
const (
	offsetBits   = 0x00fffffffffffe00
	isCompressed = 1 << 62
	isZero       = 1 << 0
)

// Length implements image.Layer.
func (d *Disk) Length() int64 { return d.Size }

// stateOf says what an entry of a table means.
func stateOf(entry uint64) image.State {
	switch {
	case entry&isCompressed != 0:
		return image.Data
	case entry&isZero != 0:
		return image.Zero
	case entry&offsetBits == 0:
		return image.Below
	}
	return image.Data
}

// Run implements image.Layer.
func (d *Disk) Run(at int64) (image.Run, error) {
	if at < 0 || at >= d.Size {
		return image.Run{}, bad("nothing is at %d of a disk of %d bytes", at, d.Size)
	}
	size := d.Cluster()
	first, table, err := d.lookUp(at / size)
	if err != nil {
		return image.Run{}, err
	}
	perTable := size / 8
	begin := at / size
	end := (begin/perTable + 1) * perTable
	run := image.Run{State: image.Below}
	if table != nil {
		run.State = stateOf(first)
		for next := begin + 1; next < end; next++ {
			if stateOf(table[next%perTable]) != run.State {
				end = next
			}
		}
	}
	run.Length = min(end*size, d.Size) - at
	return run, nil
}

// ReadAt implements io.ReaderAt. What the image says nothing of is zeros.
func (d *Disk) ReadAt(into []byte, at int64) (int, error) {
	if at < 0 {
		return 0, bad("nothing is at %d of a disk", at)
	}
	size := d.Cluster()
	for done := int64(0); done < int64(len(into)); {
		here := at + done
		if here >= d.Size {
			return int(done), io.EOF
		}
		entry, table, err := d.lookUp(here / size)
		if err != nil {
			return int(done), err
		}
		skip := here % size
		n := min(size-skip, int64(len(into))-done, d.Size-here)
		part := into[done : done+n]
		switch state := stateOf(entry); {
		case state != image.Data:
			clear(part)
		case entry&isCompressed != 0:
			content, err := d.decompress(entry)
			if err != nil {
				return int(done), err
			}
			copy(part, content[skip:])
		default:
			begin := int64(entry & offsetBits)
			for next := here/size + 1; n < int64(len(into))-done && here+n < d.Size && next%(size/8) != 0; next++ { // what lies side by side is read at once
				if e := table[next%(size/8)]; stateOf(e) != image.Data || e&isCompressed != 0 || int64(e&offsetBits) != begin+skip+n {
					break
				}
				n = min(n+size, int64(len(into))-done, d.Size-here)
			}
			if err := readFull(d.image.file, begin+skip, into[done:done+n]); err != nil {
				return int(done), err
			}
		}
		done += n
	}
	return len(into), nil
}

// lookUp looks up what the tables say of a cluster, and the table of the second level that says it, which is
// nil where there is none.
func (d *Disk) lookUp(cluster int64) (uint64, []uint64, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.first == nil {
		first := make([]uint64, d.entries)
		if err := readAt(d.image.file, int64(d.table), first); err != nil {
			return 0, nil, err
		}
		d.first, d.of = first, -1
	}
	perTable := d.Cluster() / 8
	i := cluster / perTable
	if i >= int64(len(d.first)) {
		return 0, nil, bad("no table for cluster %d", cluster)
	}
	at := d.first[i] & offsetBits
	if at == 0 {
		return 0, nil, nil
	}
	if d.of != i {
		second := make([]uint64, perTable) // others may still read the one before
		if err := readAt(d.image.file, int64(at), second); err != nil {
			return 0, nil, err
		}
		d.second, d.of = second, i
	}
	return d.second[cluster%perTable], d.second, nil
}

// compressedAt is where a compressed cluster is, and how long it is at most (qcow2.txt, "Compressed Clusters Descriptor").
func (i *Image) compressedAt(entry uint64) (at, length int64) {
	shift := 62 - (i.bits - 8)
	at = int64(entry & (1<<shift - 1))
	return at, int64(entry>>shift&(1<<(i.bits-8)-1)+1)*512 - at&511
}

// decompress reads a compressed cluster.
func (d *Disk) decompress(entry uint64) ([]byte, error) {
	at, length := d.image.compressedAt(entry)
	packed := make([]byte, length)
	n, err := d.image.file.ReadAt(packed, at) // the last sector may be cut short by the end of the file
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	content := make([]byte, d.Cluster())
	if d.image.zstd {
		z, err := zstd.NewReader(bytes.NewReader(packed[:n]), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(8<<20))
		if err != nil {
			return nil, err
		}
		defer z.Close()
		_, err = io.ReadFull(z, content)
		if err != nil {
			return nil, bad("a compressed cluster at %d: %s", at, err)
		}
		return content, nil
	}
	if _, err := io.ReadFull(flate.NewReader(bytes.NewReader(packed[:n])), content); err != nil {
		return nil, bad("a compressed cluster at %d: %s", at, err)
	}
	return content, nil
}

// readAt reads numbers, in the order of bytes that the format has.
func readAt(file io.ReaderAt, at int64, into any) error {
	b := make([]byte, binary.Size(into))
	if err := readFull(file, at, b); err != nil {
		return err
	}
	_, err := binary.Decode(b, binary.BigEndian, into)
	return err
}
