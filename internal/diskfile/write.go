package diskfile

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/formats"
)

// Write writes a disk to files that are not there yet; of a child only what differs from below. What was begun and failed is
// removed. It returns once the disk has taken it.
func Write(ctx context.Context, path string, f formats.Format, o image.Order, from, below image.Chain, done func(at int64)) (err error) {
	var made []*os.File
	create := func(path string) (*os.File, error) {
		file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o666)
		if err == nil {
			made = append(made, file)
		}
		return file, err
	}
	defer func() {
		for _, file := range made {
			err = errors.Join(err, file.Close())
		}
		if err != nil {
			for _, file := range made {
				_ = os.Remove(file.Name())
			}
		}
	}()
	file, err := create(path)
	if err != nil {
		return err
	}
	if o.Name == "" {
		o.Name = filepath.Base(path)
	}
	o.Beside = func(name string) (io.WriterAt, error) { return create(filepath.Join(filepath.Dir(path), name)) }
	o.Size = from.Length()
	w, err := f.Create(file, o)
	if err != nil {
		return err
	}
	if err := image.Copy(ctx, w, from, below, done); err != nil {
		return err
	}
	length, err := w.Close()
	if err != nil {
		return err
	}
	if err := file.Truncate(length); err != nil {
		return err
	}
	for _, file := range made {
		if err := file.Sync(); err != nil {
			return err
		}
	}
	return nil
}

// Child writes an image that has nothing of its own, of the same format as its parent.
func Child(ctx context.Context, path string, parent *Disk, o image.Order) error {
	f, known := formats.Of(parent.Images[0].Format)
	if !known || f.Name == formats.Raw {
		return fmt.Errorf("a %s image cannot have children", parent.Images[0].Format)
	}
	o.Parent = parent.Images[0]
	same := image.Chain{empty(parent.Length())}
	return Write(ctx, path, f, o, same, nil, nil)
}

// empty is a disk that nothing was written to.
type empty int64

// Length implements image.Layer.
func (e empty) Length() int64 { return int64(e) }

// Run implements image.Layer.
func (e empty) Run(at int64) (image.Run, error) {
	return image.Run{State: image.Zero, Length: int64(e) - at}, nil
}

// ReadAt implements io.ReaderAt.
func (e empty) ReadAt(p []byte, _ int64) (int, error) { clear(p); return len(p), nil }

// Empty is a disk of a size that nothing was written to.
func Empty(size int64) image.Chain { return image.Chain{empty(size)} }

var zeros [1 << 16]byte

// Copy copies a file to one that is not there yet: as another name for the same blocks where the file system can do that, else
// without what was never written.
func Copy(ctx context.Context, to, from string, done func(at int64)) (err error) {
	source, err := os.Open(from)
	if err != nil {
		return err
	}
	defer source.Close() //nolint:errcheck // it was only read
	about, err := source.Stat()
	if err != nil {
		return err
	}
	target, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
	if err != nil {
		return err
	}
	defer func() {
		if err = errors.Join(err, target.Close()); err != nil {
			_ = os.Remove(to)
		}
	}()
	if share(target, source) == nil {
		return target.Sync()
	}
	if err := target.Truncate(about.Size()); err != nil {
		return err
	}
	for at := int64(0); at < about.Size(); {
		hole, length, err := holeIn(source, about.Size(), at)
		if err != nil {
			return err
		}
		if length = min(length, about.Size()-at); !hole {
			if err := copyPart(ctx, target, source, at, length, done); err != nil {
				return err
			}
		}
		at += length
	}
	return target.Sync()
}

const part = 8 << 20

// copyPart copies a part of a file, without blocks of zeros.
func copyPart(ctx context.Context, to, from *os.File, at, length int64, done func(at int64)) error {
	buffer := make([]byte, min(part, length))
	for end := at + length; at < end; {
		if err := ctx.Err(); err != nil {
			return err
		}
		content := buffer[:min(int64(len(buffer)), end-at)]
		if n, err := from.ReadAt(content, at); n < len(content) {
			return err
		}
		for begin := 0; begin < len(content); { // what is not zeros is written in one go
			next := begin
			for next < len(content) {
				block := content[next:min(next+len(zeros), len(content))]
				if bytes.Equal(block, zeros[:len(block)]) {
					break
				}
				next += len(block)
			}
			if next > begin {
				if _, err := to.WriteAt(content[begin:next], at+int64(begin)); err != nil {
					return err
				}
			}
			begin = next + len(zeros)
		}
		if at += int64(len(content)); done != nil {
			done(at)
		}
	}
	return nil
}
