// Package qcow2 reads disk images in QEMU's format (QEMU: docs/interop/qcow2.txt), as they are
// or as they were at a checkpoint inside of them.
package qcow2

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
)

// ErrImage is what every failure to understand an image unwraps to.
var ErrImage = errors.New("not a qcow2 image that can be read")

func bad(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrImage, fmt.Sprintf(format, args...))
}

// The bounds of what is read into memory of an image that may be anything.
const (
	mostSnapshots = 1 << 16
	mostTable     = 32 << 20 // bytes of a table of the first level, as QEMU has it
)

// The incompatible features (qcow2.txt, "Header"): a dirty image is consistent but for its
// reference counts, which nobody here asks for.
const (
	dirty       = 1 << 0
	corrupt     = 1 << 1
	compression = 1 << 3
)

// Image is an image that was opened.
type Image struct {
	file    io.ReaderAt
	bits    uint
	size    int64
	table   uint64 // where the table of the first level is
	entries uint32
	backing string
	states  []State
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
	i := &Image{file: file, bits: uint(h.ClusterBits), size: int64(h.Size), table: h.L1At, entries: h.L1Size}
	if h.Version == 3 {
		var features uint64
		if err := readAt(file, 72, &features); err != nil {
			return nil, err
		}
		if features&corrupt != 0 {
			return nil, bad("it is marked as corrupt")
		}
		if features &^= dirty; features&compression != 0 {
			return nil, bad("it is compressed by another method than deflate")
		} else if features != 0 {
			return nil, bad("it has the features %#x", features)
		}
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

// Read reads the cluster that begins at a place, which is a multiple of Cluster. It returns
// false if the image itself says nothing of it, so that its parent does; nil are zeros.
func (d *Disk) Read(at int64) (content []byte, says bool, err error) {
	size := d.Cluster()
	if at < 0 || at >= d.Size || at%size != 0 {
		return nil, false, bad("no cluster begins at %d", at)
	}
	entry, err := d.entry(at / size)
	if err != nil || entry == 0 {
		return nil, false, err
	}
	switch {
	case entry&isCompressed != 0:
		content, err = d.decompress(entry)
		return content, true, err
	case entry&isZero != 0:
		return nil, true, nil
	case entry&offsetBits == 0:
		return nil, false, nil
	}
	content = make([]byte, min(size, d.Size-at))
	return content, true, readFull(d.image.file, int64(entry&offsetBits), content)
}

// Says implements Layer.
func (d *Disk) Says(at int64) (bool, error) {
	entry, err := d.entry(at / d.Cluster())
	return entry&(isCompressed|isZero|offsetBits) != 0, err
}

// entry looks up what the tables say of a cluster.
func (d *Disk) entry(cluster int64) (uint64, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.first == nil {
		d.first, d.of = make([]uint64, d.entries), -1
		if err := readAt(d.image.file, int64(d.table), d.first); err != nil {
			return 0, err
		}
	}
	perTable := d.Cluster() / 8
	i := cluster / perTable
	if i >= int64(len(d.first)) {
		return 0, bad("no table for cluster %d", cluster)
	}
	at := d.first[i] & offsetBits
	if at == 0 {
		return 0, nil
	}
	if d.of != i {
		d.second = make([]uint64, perTable)
		if err := readAt(d.image.file, int64(at), d.second); err != nil {
			return 0, err
		}
		d.of = i
	}
	return d.second[cluster%perTable], nil
}

// decompress reads a compressed cluster (qcow2.txt, "Compressed Clusters Descriptor").
func (d *Disk) decompress(entry uint64) ([]byte, error) {
	shift := 62 - (d.image.bits - 8)
	at := int64(entry & (1<<shift - 1))
	length := int64(entry>>shift&(1<<(d.image.bits-8)-1)+1)*512 - at&511
	packed := make([]byte, length)
	n, err := d.image.file.ReadAt(packed, at) // the last sector may be cut short by the end of the file
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	content := make([]byte, d.Cluster())
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

func readFull(file io.ReaderAt, at int64, into []byte) error {
	if at < 0 {
		return bad("something is said to be at %d", at)
	}
	n, err := file.ReadAt(into, at)
	if n == len(into) {
		return nil
	}
	if errors.Is(err, io.EOF) {
		return bad("it ends before %d", at+int64(len(into)))
	}
	return err
}
