package image

import (
	"bytes"
	"context"
	"io"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"
)

// Order says what image to write.
type Order struct {
	Size    int64 // of the disk in bytes
	Variant Variant
	// Identity is that of the new image, as far as its format has one. The same order gives the same bytes.
	Identity uuid.UUID
	// Parent is that of a child: an image that is open, and its name as the child is to know it, with / between folders.
	Parent     *Image
	ParentName string
	// Name is that of the file, for formats that say it.
	Name string
	// Beside creates a second file, for formats that need one.
	Beside func(name string) (io.WriterAt, error)
}

// Writer writes an image. It is given the content of the disk from the beginning to the end; what it is not
// given is a hole.
type Writer interface {
	// Block is of what the places and lengths of content are multiples, the end of the disk aside.
	Block() int64
	// Prepare may be called for several parts side by side. What it returns is called in order and writes it;
	// content is not kept after that.
	Prepare(at int64, content []byte) (put func() error, err error)
	// Close writes what tells that the image is whole, and returns the length of its file.
	Close() (int64, error)
}

// Plain writes the content of a disk at the place that it has on the disk.
type Plain struct{ To io.WriterAt }

// Block implements Writer.
func (Plain) Block() int64 { return 4096 }

// Prepare implements Writer.
func (p Plain) Prepare(at int64, content []byte) (func() error, error) {
	return func() error { _, err := p.To.WriteAt(content, at); return err }, nil
}

// InBlocks calls put for the parts of content that are each in one block.
func InBlocks(at int64, content []byte, block int64, put func(at int64, part []byte) error) error {
	for len(content) > 0 {
		n := min(int64(len(content)), block-at%block)
		if err := put(at, content[:n]); err != nil {
			return err
		}
		at, content = at+n, content[n:]
	}
	return nil
}

// piece is how much of a disk is read at once, a multiple of every block; together is how many of them are
// worked on at a time.
const (
	piece    = 2 << 20
	together = 6
)

// Copy writes a disk; of a child only what differs from below. done, if given, is told how much of the disk
// was gone through.
func Copy(ctx context.Context, to Writer, from Chain, below Chain, done func(at int64)) error {
	type ready struct {
		end int64
		put []func() error
		err error
		buf []byte
	}
	queue := make(chan chan ready, together)
	free := make(chan []byte, together+2)
	for range cap(free) {
		free <- nil
	}
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error {
		defer close(queue)
		size := from.Length()
		for at := int64(0); at < size; {
			if len(below) == 0 { // what is no data need not be read
				run, err := from.Run(at)
				if err != nil {
					return err
				}
				if run.State != Data && at+run.Length < size {
					if next := (at + run.Length) / piece * piece; next > at {
						at = next
						continue
					}
				} else if run.State != Data {
					break
				}
			}
			begin, end := at, min(at/piece*piece+piece, size)
			var buf []byte
			select {
			case buf = <-free:
			case <-ctx.Done():
				return ctx.Err()
			}
			if buf == nil {
				buf = make([]byte, piece)
			}
			one := make(chan ready, 1)
			go func() {
				r := ready{end: end, buf: buf}
				r.put, r.err = prepare(to, from, below, begin, buf[:end-begin])
				one <- r
			}()
			select {
			case queue <- one:
			case <-ctx.Done():
				return ctx.Err()
			}
			at = end
		}
		return nil
	})
	group.Go(func() error {
		for one := range queue {
			r := <-one
			if r.err != nil {
				return r.err
			}
			for _, put := range r.put {
				if err := put(); err != nil {
					return err
				}
			}
			free <- r.buf
			if done != nil {
				done(r.end)
			}
		}
		return nil
	})
	return group.Wait()
}

var zeros [piece]byte

// prepare reads a part of a disk and gives the writer what is not zeros, or not as below.
func prepare(to Writer, from, below Chain, at int64, content []byte) (put []func() error, err error) {
	if n, err := from.ReadAt(content, at); n < len(content) {
		return nil, err
	}
	without := zeros[:len(content)]
	if len(below) > 0 {
		without = make([]byte, len(content))
		if n, err := below.ReadAt(without, at); n < len(without) {
			return nil, err
		}
	}
	block := int(to.Block())
	for begin := 0; begin < len(content); {
		end := begin
		for end < len(content) {
			next := min(end+block, len(content))
			if bytes.Equal(content[end:next], without[end:next]) {
				break
			}
			end = next
		}
		if end == begin {
			begin = min(begin+block, len(content))
			continue
		}
		one, err := to.Prepare(at+int64(begin), content[begin:end])
		if err != nil {
			return nil, err
		}
		put, begin = append(put, one), end
	}
	return put, nil
}
