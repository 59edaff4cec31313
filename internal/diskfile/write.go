package diskfile

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
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

// Copy copies a file to one that is not there yet: as another name for the same blocks where the file system can do that, else
// without what was never written, or is zeros.
func Copy(ctx context.Context, to, from string, done func(at int64)) error {
	if err := clone(to, from); err == nil || errors.Is(err, fs.ErrExist) {
		return err
	}
	d, err := Open(from, formats.Raw)
	if err != nil {
		return err
	}
	defer d.Close()
	raw, _ := formats.Of(formats.Raw)
	return Write(ctx, to, raw, image.Order{}, d.Chain, nil, done)
}

// clone makes a file of the same blocks as another.
func clone(to, from string) error {
	source, err := os.Open(from)
	if err != nil {
		return err
	}
	defer source.Close() //nolint:errcheck // it was only read
	target, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
	if err != nil {
		return err
	}
	if err = share(target, source); err == nil {
		err = target.Sync()
	}
	if err = errors.Join(err, target.Close()); err != nil {
		_ = os.Remove(to)
	}
	return err
}
