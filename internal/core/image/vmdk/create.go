package vmdk

import (
	"bytes"
	"fmt"
	"io"
	"path"
	"strings"
	"sync"

	"github.com/klauspost/compress/zlib"

	"mintbatch/internal/core/image"
)

const (
	writeGrain    = 64 << 10
	descriptorLen = 20 // sectors
	largestSparse = 2 << 40
)

// Create begins to write an image. One that is fixed has its disk in a second file beside it.
func Create(to io.WriterAt, o image.Order) (image.Writer, error) {
	sectors := (o.Size + sector - 1) / sector
	if o.Size <= 0 || o.Size > largestSparse {
		return nil, fmt.Errorf("a VMDK image has a disk of 1 byte to 2 TiB, not of %d bytes", o.Size)
	}
	if o.Variant == image.Fixed {
		return createFlat(to, o, sectors)
	}
	kind := "monolithicSparse"
	if o.Variant == image.Stream {
		kind = "streamOptimized"
		if o.Parent != nil {
			return nil, fmt.Errorf("a stream-optimized VMDK image cannot be a child")
		}
	}
	text, err := describe(o, kind, fmt.Sprintf("RW %d SPARSE %q", sectors, o.Name), sectors)
	if err != nil {
		return nil, err
	}
	if len(text) > descriptorLen*sector {
		return nil, fmt.Errorf("the names of the image and its parent are too long for a VMDK image")
	}
	grains := (sectors*sector + writeGrain - 1) / writeGrain
	w := &layout{to: to, sectors: sectors, text: text, directory: make([]uint32, (grains+perTable-1)/perTable)}
	if o.Variant == image.Stream {
		w.next = 128
		return &stream{layout: w, table: -1}, nil
	}
	s := &sparse{layout: w, table: -1}
	directory := (int64(len(w.directory))*4 + sector - 1) / sector
	s.copyAt = 1 + descriptorLen
	s.directoryAt = s.copyAt + directory + int64(len(w.directory))*4
	w.next = (s.directoryAt + directory + int64(len(w.directory))*4 + 127) / 128 * 128
	s.overhead = w.next
	return s, nil
}

// layout is what all that is written has in common; places are in sectors.
type layout struct {
	to        io.WriterAt
	sectors   int64
	text      string
	directory []uint32
	next      int64
}

func (w *layout) write(b []byte, at int64) error {
	_, err := w.to.WriteAt(b, at*sector)
	return err
}

// header is a header, or a footer.
func (w *layout) header(version, flags uint32, copyAt, directoryAt, overhead int64) []byte {
	h := make([]byte, sector)
	copy(h, "KDMV")
	le.PutUint32(h[4:], version)
	le.PutUint32(h[8:], flags|lineEnds)
	le.PutUint64(h[12:], uint64(w.sectors))
	le.PutUint64(h[20:], writeGrain/sector)
	le.PutUint64(h[28:], 1)
	le.PutUint64(h[36:], descriptorLen)
	le.PutUint32(h[44:], perTable)
	le.PutUint64(h[48:], uint64(copyAt))
	le.PutUint64(h[56:], uint64(directoryAt))
	le.PutUint64(h[64:], uint64(overhead))
	copy(h[73:], "\n \r\n")
	if flags&compressed != 0 {
		le.PutUint16(h[77:], 1)
	}
	return h
}

func (w *layout) descriptor() []byte {
	b := make([]byte, descriptorLen*sector)
	copy(b, w.text)
	return b
}

// sparse puts grains one after the other, behind tables of which there is a copy.
type sparse struct {
	*layout
	copyAt, directoryAt, overhead int64

	table   int64 // that is being filled; -1 if none is
	entries [perTable]uint32
}

// Block implements image.Writer.
func (*sparse) Block() int64 { return writeGrain }

// tablesAt is where the tables are that belong to a directory.
func (w *sparse) tablesAt(directoryAt int64) int64 {
	return directoryAt + (int64(len(w.directory))*4+sector-1)/sector
}

// Prepare implements image.Writer.
func (w *sparse) Prepare(at int64, content []byte) (func() error, error) {
	return func() error {
		for rest := content; len(rest) > 0; at += writeGrain {
			n := min(len(rest), writeGrain)
			if table := at / writeGrain / perTable; table != w.table {
				if err := w.flush(); err != nil {
					return err
				}
				w.table = table
			}
			if err := w.write(rest[:n], w.next); err != nil {
				return err
			}
			w.entries[at/writeGrain%perTable] = uint32(w.next)
			w.next += writeGrain / sector
			rest = rest[n:]
		}
		return nil
	}, nil
}

// flush writes a table that is full, and its copy.
func (w *sparse) flush() error {
	if w.table < 0 {
		return nil
	}
	b := make([]byte, 0, perTable*4)
	for _, e := range w.entries {
		b = le.AppendUint32(b, e)
	}
	clear(w.entries[:])
	for _, directory := range []int64{w.copyAt, w.directoryAt} {
		if err := w.write(b, w.tablesAt(directory)+4*w.table); err != nil {
			return err
		}
	}
	return nil
}

// Close implements image.Writer.
func (w *sparse) Close() (int64, error) {
	if err := w.flush(); err != nil {
		return 0, err
	}
	for _, directory := range []int64{w.copyAt, w.directoryAt} {
		b := make([]byte, 0, len(w.directory)*4)
		for n := range w.directory {
			b = le.AppendUint32(b, uint32(w.tablesAt(directory)+4*int64(n)))
		}
		if err := w.write(b, directory); err != nil {
			return 0, err
		}
	}
	if err := w.write(w.descriptor(), 1); err != nil {
		return 0, err
	}
	return w.next * sector, w.write(w.header(1, redundant, w.copyAt, w.directoryAt, w.overhead), 0)
}

// stream writes from the beginning to the end only ("Stream-Optimized Compressed Sparse Extents").
type stream struct {
	*layout
	begun   bool
	table   int64
	entries [perTable]uint32
}

// Block implements image.Writer.
func (*stream) Block() int64 { return writeGrain }

var packers = sync.Pool{New: func() any { z, _ := zlib.NewWriterLevel(nil, 3); return z }}

// Prepare implements image.Writer: it compresses the grains.
func (w *stream) Prepare(at int64, content []byte) (func() error, error) {
	var packed bytes.Buffer
	var starts []int
	z := packers.Get().(*zlib.Writer)
	defer packers.Put(z)
	grain := make([]byte, writeGrain)
	for rest := content; len(rest) > 0; {
		n := copy(grain, rest)
		clear(grain[n:])
		rest = rest[n:]
		start := packed.Len()
		var head [12]byte
		packed.Write(head[:])
		z.Reset(&packed)
		if _, err := z.Write(grain); err != nil {
			return nil, err
		}
		if err := z.Close(); err != nil {
			return nil, err
		}
		record := packed.Bytes()[start:]
		le.PutUint64(record, uint64((at+int64(len(starts))*writeGrain)/sector))
		le.PutUint32(record[8:], uint32(len(record)-12))
		packed.Write(make([]byte, (sector-packed.Len()%sector)%sector))
		starts = append(starts, start)
	}
	return func() error {
		all := packed.Bytes()
		for k, start := range starts {
			grain := at/writeGrain + int64(k)
			if grain/perTable != w.table {
				if err := w.flush(); err != nil {
					return err
				}
				w.table = grain / perTable
			}
			end := len(all)
			if k+1 < len(starts) {
				end = starts[k+1]
			}
			w.entries[grain%perTable] = uint32(w.next)
			if err := w.put(all[start:end]); err != nil {
				return err
			}
		}
		return nil
	}, nil
}

// put writes what comes next; before all else the header.
func (w *stream) put(b []byte) error {
	if !w.begun {
		w.begun = true
		head := append(w.header(3, compressed|markers, 0, atEnd, 128), w.descriptor()...)
		if err := w.write(append(head, make([]byte, 128*sector-len(head))...), 0); err != nil {
			return err
		}
	}
	err := w.write(b, w.next)
	w.next += int64(len(b)) / sector
	return err
}

func marker(length int64, kind uint32) []byte {
	b := make([]byte, sector)
	le.PutUint64(b, uint64(length))
	le.PutUint32(b[12:], kind)
	return b
}

// flush writes the table of the grains that were written.
func (w *stream) flush() error {
	if w.table < 0 {
		return nil
	}
	b := marker(perTable*4/sector, tableMarker)
	w.directory[w.table] = uint32(w.next + 1)
	for _, e := range w.entries {
		b = le.AppendUint32(b, e)
	}
	clear(w.entries[:])
	return w.put(b)
}

// Close implements image.Writer.
func (w *stream) Close() (int64, error) {
	if err := w.flush(); err != nil {
		return 0, err
	}
	length := (int64(len(w.directory))*4 + sector - 1) / sector
	b := marker(length, directoryMarker)
	for _, e := range w.directory {
		b = le.AppendUint32(b, e)
	}
	b = append(b, make([]byte, (sector-len(b)%sector)%sector)...)
	directoryAt := w.next + 1
	b = append(b, marker(1, footerMarker)...)
	b = append(b, w.header(3, compressed|markers, 0, directoryAt, 128)...)
	b = append(b, marker(0, endOfStream)...)
	err := w.put(b)
	return w.next * sector, err
}

// createFlat writes a disk as it is, and a descriptor that names it.
func createFlat(to io.WriterAt, o image.Order, sectors int64) (image.Writer, error) {
	name := strings.TrimSuffix(o.Name, path.Ext(o.Name)) + "-flat.vmdk"
	text, err := describe(o, "monolithicFlat", fmt.Sprintf("RW %d FLAT %q 0", sectors, name), sectors)
	if err != nil {
		return nil, err
	}
	if o.Beside == nil {
		return nil, fmt.Errorf("a fixed VMDK image has a second file, which cannot be written here")
	}
	disk, err := o.Beside(name)
	if err != nil {
		return nil, err
	}
	return &flat{image.Plain{To: disk}, to, text, sectors * sector}, nil
}

type flat struct {
	image.Plain
	to   io.WriterAt // the descriptor
	text string
	size int64
}

// Close implements image.Writer.
func (w *flat) Close() (int64, error) {
	if t, can := w.To.(interface{ Truncate(int64) error }); can {
		if err := t.Truncate(w.size); err != nil {
			return 0, err
		}
	}
	_, err := w.to.WriteAt([]byte(w.text), 0)
	return int64(len(w.text)), err
}
