package qcow2

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"math/bits"
)

// WriteCluster is the size of the clusters of images that are written here.
const WriteCluster = 1 << writeBits

const (
	writeBits = 16
	perL2     = WriteCluster / 8 // entries of a table of the second level
	perBlock  = WriteCluster / 2 // reference counts of a block, of 16 bits each
	headerLen = 104
	copied    = 1 << 63 // only this image has the cluster (qcow2.txt, "Cluster mapping")
)

// Clusters are some of the clusters of a disk, of WriteCluster bytes each.
type Clusters []uint64

// NewClusters is none of the clusters of a disk of a size in bytes.
func NewClusters(size int64) Clusters { return make(Clusters, (clustersOf(size)+63)/64) }

// Add adds a cluster.
func (c Clusters) Add(cluster int64) { c[cluster/64] |= 1 << (cluster % 64) }

// Has reports whether a cluster is one of them.
func (c Clusters) Has(cluster int64) bool { return c[cluster/64]>>(cluster%64)&1 != 0 }

// Count is how many they are.
func (c Clusters) Count() (n int64) {
	for _, word := range c {
		n += int64(bits.OnesCount64(word))
	}
	return n
}

func clustersOf(size int64) int64 { return (size + WriteCluster - 1) / WriteCluster }

// Layout is an image (version 3) of a disk of which only some clusters are more than zeros, as it
// is written from its first byte to its last: header, tables, then those clusters in order.
type Layout struct {
	size int64
	has  Clusters

	l1, l2, counts, blocks, data int64 // how many clusters each part takes
}

// ErrTooLarge means that a disk is larger than an image of these clusters can be.
var ErrTooLarge = fmt.Errorf("a disk image has at most %d TiB", int64(mostTable/8)*perL2*WriteCluster>>40)

// NewLayout is the layout of an image of a disk of a size in bytes. It fails for a disk that is too
// large.
func NewLayout(size int64, has Clusters) (*Layout, error) {
	l := &Layout{size: size, has: has, data: has.Count()}
	tables := (clustersOf(size) + perL2 - 1) / perL2
	if size < 0 || tables*8 > mostTable {
		return nil, ErrTooLarge
	}
	l.l1 = clustersOf(tables * 8)
	for i := range tables {
		if l.anyIn(i) {
			l.l2++
		}
	}
	for { // the counts count themselves
		all := l.clusters()
		blocks := (all + perBlock - 1) / perBlock
		counts := clustersOf(blocks * 8)
		if blocks == l.blocks && counts == l.counts {
			return l, nil
		}
		l.blocks, l.counts = blocks, counts
	}
}

func (l *Layout) clusters() int64 { return 1 + l.l1 + l.l2 + l.counts + l.blocks + l.data }

// anyIn reports whether a table of the second level has any entry.
func (l *Layout) anyIn(table int64) bool {
	const words = perL2 / 64
	for i := table * words; i < min((table+1)*words, int64(len(l.has))); i++ {
		if l.has[i] != 0 {
			return true
		}
	}
	return false
}

// Length is that of the file, in bytes.
func (l *Layout) Length() int64 { return l.clusters() * WriteCluster }

// WriteTo writes the file; of the disk only the clusters are read that the layout has.
func (l *Layout) WriteTo(to io.Writer, disk io.ReaderAt) error {
	w := bufio.NewWriterSize(to, 16*WriteCluster)
	first := 1 + l.l1 // the first table of the second level
	counts := first + l.l2
	l.header(w, counts*WriteCluster)
	tables := (clustersOf(l.size) + perL2 - 1) / perL2
	next := first
	l.table(w, l.l1, tables, func(i int64) uint64 {
		if !l.anyIn(i) {
			return 0
		}
		next++
		return uint64(next-1)*WriteCluster | copied
	})
	data := counts + l.counts + l.blocks
	for i := range tables {
		if !l.anyIn(i) {
			continue
		}
		l.table(w, 1, perL2, func(k int64) uint64 {
			if at := i*perL2 + k; at >= clustersOf(l.size) || !l.has.Has(at) {
				return 0
			}
			data++
			return uint64(data-1)*WriteCluster | copied
		})
	}
	l.table(w, l.counts, l.blocks, func(i int64) uint64 { return uint64(counts+l.counts+i) * WriteCluster })
	for i := range l.blocks * perBlock {
		count := byte(0)
		if i < l.clusters() {
			count = 1
		}
		_ = w.WriteByte(0) // of a buffered writer, whose error comes at the next that is looked at
		_ = w.WriteByte(count)
	}
	cluster := make([]byte, WriteCluster)
	for at := range clustersOf(l.size) {
		if !l.has.Has(at) {
			continue
		}
		clear(cluster)
		part := cluster[:min(WriteCluster, l.size-at*WriteCluster)]
		if err := readFull(disk, at*WriteCluster, part); err != nil {
			return err
		}
		if _, err := w.Write(cluster); err != nil {
			return err
		}
	}
	return w.Flush()
}

// header writes the header and the rest of its cluster.
func (l *Layout) header(w *bufio.Writer, counts int64) {
	h := make([]byte, WriteCluster)
	putHeader(h, l.size, counts, l.counts)
	_, _ = w.Write(h)
}

// putHeader writes the header (qcow2.txt, "Header") of an image of a disk of a size, whose table of the first level is in
// its second cluster.
func putHeader(h []byte, size, counts, countClusters int64) {
	put := binary.BigEndian
	put.PutUint32(h, 0x514649fb)
	put.PutUint32(h[4:], 3)
	put.PutUint32(h[20:], writeBits)
	put.PutUint64(h[24:], uint64(size))
	put.PutUint32(h[36:], uint32((clustersOf(size)+perL2-1)/perL2))
	put.PutUint64(h[40:], WriteCluster)
	put.PutUint64(h[48:], uint64(counts))
	put.PutUint32(h[56:], uint32(countClusters))
	put.PutUint32(h[96:], 4) // reference counts of 2^4 bits
	put.PutUint32(h[100:], headerLen)
}

// table writes so many entries, and fills so many clusters with them.
func (l *Layout) table(w *bufio.Writer, clusters, entries int64, entry func(i int64) uint64) {
	var b [8]byte
	for i := range clusters * perL2 {
		clear(b[:])
		if i < entries {
			binary.BigEndian.PutUint64(b[:], entry(i))
		}
		_, _ = w.Write(b[:])
	}
}
