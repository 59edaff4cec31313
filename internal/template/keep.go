package template

import (
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/pack"
	"mintbatch/internal/library"
)

// keep is the folder for packs that were fetched. A file has its name only once it is whole.
type keep struct{ dir string }

func (k keep) path(r pack.Ref) string {
	return filepath.Join(k.dir, hex.EncodeToString(r.Digest[:])+".pack")
}

func (k keep) has(r pack.Ref) bool {
	about, err := os.Stat(k.path(r))
	return err == nil && about.Size() == r.Size
}

// local is a library whose packs can be read where they are.
func (s *Shelf) local() bool { return s.setup.Folder != "" }

// missing are the packs of an index that are not here, and their size.
func (s *Shelf) missing(i *pack.Index) (some []pack.Ref, size machine.Size) {
	if s.local() {
		return nil, 0
	}
	for _, r := range i.Packs {
		if !s.keep.has(r) {
			some = append(some, r)
			size += machine.Size(r.Size)
		}
	}
	return some, size
}

// sideBySide is how many packs are sent or fetched at once.
const sideBySide = 4

// fetch brings packs here. Those that an interrupted one has brought are here already.
func (s *Shelf) fetch(ctx context.Context, some []pack.Ref, share func(float64)) error {
	if len(some) == 0 {
		return nil
	}
	if err := os.MkdirAll(s.keep.dir, 0o700); err != nil {
		return err
	}
	whole := int64(0)
	for _, r := range some {
		whole += r.Size
	}
	var done atomic.Int64
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(sideBySide)
	for _, r := range some {
		group.Go(func() error {
			if err := s.fetchOne(ctx, r); err != nil {
				return s.from(err)
			}
			share(float64(done.Add(r.Size)) / float64(whole))
			return nil
		})
	}
	return group.Wait()
}

func (s *Shelf) fetchOne(ctx context.Context, r pack.Ref) error {
	from, err := s.store.Open(ctx, layerOf(r))
	if err != nil {
		return err
	}
	defer from.Close()
	return library.WriteWhole(s.keep.path(r), 0o600, func(to io.Writer) error { return library.Copy(to, from, layerOf(r)) })
}

// disk is the disk of a version of which all packs are here, until done is called.
func (s *Shelf) disk(ctx context.Context, i *pack.Index) (d *pack.Disk, done func(), err error) {
	files := make([]io.ReaderAt, len(i.Packs))
	var open []io.Closer
	closeAll := func() {
		for _, f := range open {
			_ = f.Close()
		}
	}
	for n, r := range i.Packs {
		var f io.ReadCloser
		if s.local() {
			f, err = s.store.Open(ctx, layerOf(r))
		} else {
			f, err = os.Open(s.keep.path(r))
		}
		if err != nil {
			closeAll()
			return nil, nil, s.from(err)
		}
		open = append(open, f)
		at, can := f.(io.ReaderAt)
		if !can {
			closeAll()
			return nil, nil, s.from(fmt.Errorf("%w: pack %s cannot be read at any place", library.ErrContent, r))
		}
		files[n] = at
	}
	d, err = pack.NewDisk(i, func(pack int) io.ReaderAt { return files[pack] })
	return d, closeAll, err
}

// here is how much of a version was fetched.
func (s *Shelf) here(one *item) (size machine.Size) {
	for _, l := range one.manifest.Layers[1:] {
		if s.local() {
			continue
		}
		if about, err := os.Stat(filepath.Join(s.keep.dir, l.Digest.Encoded()+".pack")); err == nil && about.Size() == l.Size {
			size += machine.Size(l.Size)
		}
	}
	return size
}
