package qcow2

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"sync"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"

	"mintbatch/internal/core/image"
)

// Create begins to write an image of version 3, or 2, of clusters of WriteCluster bytes.
func Create(to io.WriterAt, o image.Order) (image.Writer, error) {
	w := &writer{to: to, size: o.Size, next: 1, shared: map[int64]uint16{}}
	tables := (clustersOf(o.Size) + perL2 - 1) / perL2
	if o.Size < 0 || tables*8 > mostTable {
		return nil, ErrTooLarge
	}
	w.pack, w.zstd, w.old = packers[o.Variant], o.Variant == image.Zstd, o.Variant == image.Old
	if o.Parent != nil {
		if len(o.ParentName) > 1023 {
			return nil, fmt.Errorf("the name of the parent is longer than 1023 bytes: %s", o.ParentName)
		}
		w.parent, w.format = o.ParentName, o.Parent.Format
		if strings.Contains(strings.SplitN(w.parent, "/", 2)[0], ":") { // else it would be taken for a protocol
			w.parent = "./" + w.parent
		}
	}
	w.tables = make([][]uint64, tables)
	w.l1 = clustersOf(tables * 8)
	w.next += w.l1
	w.free = w.next * WriteCluster
	return w, nil
}

// packers compress a cluster (qcow2.txt, "Compressed Clusters Descriptor").
var packers = map[image.Variant]func(cluster []byte) ([]byte, error){
	image.Packed: func(cluster []byte) ([]byte, error) {
		var b bytes.Buffer
		z, err := flate.NewWriter(&b, flate.DefaultCompression)
		if err == nil {
			_, err = z.Write(cluster)
		}
		if err == nil {
			err = z.Close()
		}
		return b.Bytes(), err
	},
	image.Zstd: func(cluster []byte) ([]byte, error) { return zstdEncoder().EncodeAll(cluster, nil), nil },
}

var zstdEncoder = sync.OnceValue(func() *zstd.Encoder {
	e, _ := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1)) // of options that are right
	return e
})

// writer puts clusters one after the other, then their tables and counts, and the header last.
type writer struct {
	to             io.WriterAt
	size, l1, next int64 // the next free cluster
	parent, format string
	tables         [][]uint64 // the entries of the clusters of the disk

	pack   func(cluster []byte) ([]byte, error) // nil if clusters are not compressed
	zstd   bool
	old    bool             // version 2
	free   int64            // where the next compressed cluster goes, in bytes
	shared map[int64]uint16 // how many compressed clusters are in those of the file that have any
}

// Block implements image.Writer.
func (*writer) Block() int64 { return WriteCluster }

// Prepare implements image.Writer.
func (w *writer) Prepare(at int64, content []byte) (func() error, error) {
	if w.pack == nil {
		return func() error {
			if _, err := w.to.WriteAt(content, w.next*WriteCluster); err != nil {
				return err
			}
			for k := range clustersOf(int64(len(content))) {
				w.set(at/WriteCluster+k, uint64(w.next)*WriteCluster|copied)
				w.next++
			}
			return nil
		}, nil
	}
	var all [][]byte
	cluster := make([]byte, WriteCluster)
	for rest := content; len(rest) > 0; {
		n := copy(cluster, rest)
		clear(cluster[n:])
		rest = rest[n:]
		packed, err := w.pack(cluster)
		if err != nil {
			return nil, err
		}
		if len(packed) >= WriteCluster {
			packed = bytes.Clone(cluster)
		}
		all = append(all, packed)
	}
	return func() error {
		for k, packed := range all {
			if err := w.put(at/WriteCluster+int64(k), packed); err != nil {
				return err
			}
		}
		return nil
	}, nil
}

// oldHeaderLen is the length of the header of version 2.
const oldHeaderLen = 72

// put writes a cluster that was compressed, behind the one before it; one that would not become smaller as it is.
func (w *writer) put(cluster int64, packed []byte) error {
	if len(packed) == WriteCluster {
		w.free = clustersOf(w.free) * WriteCluster
		w.set(cluster, uint64(w.free)|copied)
	} else {
		last := w.free + int64(len(packed)) - 1
		w.set(cluster, isCompressed|uint64(last/512-w.free/512)<<(62-(writeBits-8))|uint64(w.free))
		for n := w.free / WriteCluster; n <= last/WriteCluster; n++ {
			w.shared[n]++
		}
	}
	_, err := w.to.WriteAt(packed, w.free)
	w.free += int64(len(packed))
	return err
}

func (w *writer) set(cluster int64, entry uint64) {
	table := &w.tables[cluster/perL2]
	if *table == nil {
		*table = make([]uint64, perL2)
	}
	(*table)[cluster%perL2] = entry
}

// Close implements image.Writer.
func (w *writer) Close() (int64, error) {
	w.next = max(w.next, clustersOf(w.free))
	first := make([]byte, w.l1*WriteCluster)
	for i, table := range w.tables {
		if table == nil {
			continue
		}
		second := make([]byte, WriteCluster)
		for k, entry := range table {
			binary.BigEndian.PutUint64(second[8*k:], entry)
		}
		if _, err := w.to.WriteAt(second, w.next*WriteCluster); err != nil {
			return 0, err
		}
		binary.BigEndian.PutUint64(first[8*i:], uint64(w.next)*WriteCluster|copied)
		w.next++
	}
	if _, err := w.to.WriteAt(first, WriteCluster); err != nil {
		return 0, err
	}
	counts, clusters, err := w.counts()
	if err != nil {
		return 0, err
	}
	h := make([]byte, WriteCluster)
	putHeader(h, w.size, counts, clusters)
	put := binary.BigEndian
	end := headerLen
	if w.old { // whose header ends before what says more
		put.PutUint32(h[4:], 2)
		clear(h[oldHeaderLen:headerLen])
	}
	if w.zstd {
		end = headerLen + 8
		put.PutUint64(h[72:], compression)
		put.PutUint32(h[100:], uint32(end))
		h[104] = zstdMethod
	}
	if w.parent != "" {
		if w.format != "" {
			put.PutUint32(h[end:], backingFormat)
			put.PutUint32(h[end+4:], uint32(len(w.format)))
			copy(h[end+8:], w.format)
			end += 8 + (len(w.format)+7)&^7
		}
		end += 8 // the end of the extensions
		put.PutUint64(h[8:], uint64(end))
		put.PutUint32(h[16:], uint32(len(w.parent)))
		copy(h[end:], w.parent)
	}
	_, err = w.to.WriteAt(h, 0)
	return w.next * WriteCluster, err
}

// counts writes the reference counts: one for each cluster of the file, their own included.
func (w *writer) counts() (at, clusters int64, err error) {
	var blocks int64
	for { // they count themselves
		all := w.next + clusters + blocks
		b := (all + perBlock - 1) / perBlock
		c := clustersOf(b * 8)
		if b == blocks && c == clusters {
			break
		}
		blocks, clusters = b, c
	}
	at = w.next * WriteCluster
	table := make([]byte, clusters*WriteCluster)
	for i := range blocks {
		binary.BigEndian.PutUint64(table[8*i:], uint64(w.next+clusters+i)*WriteCluster)
	}
	if _, err := w.to.WriteAt(table, at); err != nil {
		return 0, 0, err
	}
	all := w.next + clusters + blocks
	block := make([]byte, WriteCluster)
	for i := range blocks {
		clear(block)
		for k := range min(perBlock, all-i*perBlock) {
			count := max(1, w.shared[i*perBlock+k])
			binary.BigEndian.PutUint16(block[2*k:], count)
		}
		if _, err := w.to.WriteAt(block, (w.next+clusters+i)*WriteCluster); err != nil {
			return 0, 0, err
		}
	}
	w.next = all
	return at, clusters, nil
}
