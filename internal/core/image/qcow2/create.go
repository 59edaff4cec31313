package qcow2

import (
	"encoding/binary"
	"fmt"
	"io"
	"strings"

	"mintbatch/internal/core/image"
)

// Create begins to write an image of version 3, of clusters of WriteCluster bytes.
func Create(to io.WriterAt, o image.Order) (image.Writer, error) {
	w := &writer{to: to, size: o.Size, next: 1}
	tables := (clustersOf(o.Size) + perL2 - 1) / perL2
	if o.Size < 0 || tables*8 > mostTable {
		return nil, ErrTooLarge
	}
	if o.Variant == image.Fixed || o.Variant == image.Stream {
		return nil, fmt.Errorf("a qcow2 image cannot be %s", o.Variant)
	}
	if o.Parent != nil {
		if len(o.ParentName) > 1023 {
			return nil, fmt.Errorf("the name of the parent is longer than 1023 bytes: %s", o.ParentName)
		}
		w.parent, w.format = o.ParentName, o.Parent.Format
		if strings.Contains(strings.SplitN(w.parent, "/", 2)[0], ":") { // else it would be taken for a protocol
			w.parent = "./" + w.parent
		}
	}
	w.first = make([]int64, tables)
	w.tables = make([][]int64, tables)
	w.l1 = clustersOf(tables * 8)
	w.next += w.l1
	return w, nil
}

// writer puts clusters one after the other, then their tables and counts, and the header last.
type writer struct {
	to             io.WriterAt
	size, l1, next int64 // the next free cluster
	parent, format string
	first          []int64
	tables         [][]int64 // the clusters in which those of the disk are
}

// Block implements image.Writer.
func (*writer) Block() int64 { return WriteCluster }

// Prepare implements image.Writer.
func (w *writer) Prepare(at int64, content []byte) (func() error, error) {
	return func() error {
		if _, err := w.to.WriteAt(content, w.next*WriteCluster); err != nil {
			return err
		}
		for k := range clustersOf(int64(len(content))) {
			cluster := at/WriteCluster + k
			table := &w.tables[cluster/perL2]
			if *table == nil {
				*table = make([]int64, perL2)
			}
			(*table)[cluster%perL2] = w.next
			w.next++
		}
		return nil
	}, nil
}

// Close implements image.Writer.
func (w *writer) Close() (int64, error) {
	first := make([]byte, w.l1*WriteCluster)
	for i, table := range w.tables {
		if table == nil {
			continue
		}
		second := make([]byte, WriteCluster)
		for k, cluster := range table {
			if cluster > 0 {
				binary.BigEndian.PutUint64(second[8*k:], uint64(cluster)*WriteCluster|copied)
			}
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
	if end := headerLen; w.parent != "" {
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
			block[2*k+1] = 1
		}
		if _, err := w.to.WriteAt(block, (w.next+clusters+i)*WriteCluster); err != nil {
			return 0, 0, err
		}
	}
	w.next = all
	return at, clusters, nil
}
