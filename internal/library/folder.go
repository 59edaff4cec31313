package library

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"github.com/gofrs/flock"
	"github.com/opencontainers/go-digest"
	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Folder is a library in a folder (OCI Image Format Specification, "Image Layout"). Files come to their names only once
// they are whole.
type Folder struct{ dir string }

// NewFolder is the library in a folder, which is made by the first that is written to it.
func NewFolder(dir string) *Folder { return &Folder{dir} }

func (f *Folder) path(d digest.Digest) (string, error) {
	if err := d.Validate(); err != nil {
		return "", fmt.Errorf("%w: %w", ErrContent, err)
	}
	return filepath.Join(f.dir, "blobs", d.Algorithm().String(), d.Encoded()), nil
}

// index reads the index; an empty one if the folder is none or not yet there.
func (f *Folder) index() (*ocispec.Index, error) {
	i := &ocispec.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageIndex}
	content, err := os.ReadFile(filepath.Join(f.dir, ocispec.ImageIndexFile))
	if errors.Is(err, fs.ErrNotExist) {
		if _, err := os.Stat(filepath.Dir(f.dir)); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
		}
		return i, nil
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	if err := json.Unmarshal(content, i); err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrContent, filepath.Join(f.dir, ocispec.ImageIndexFile), err)
	}
	return i, nil
}

// Tags implements Store.
func (f *Folder) Tags(context.Context) ([]string, error) {
	i, err := f.index()
	if err != nil {
		return nil, err
	}
	var all []string
	for _, m := range i.Manifests {
		if tag := m.Annotations[ocispec.AnnotationRefName]; tag != "" {
			all = append(all, tag)
		}
	}
	slices.Sort(all)
	return all, nil
}

// Manifest implements Store.
func (f *Folder) Manifest(ctx context.Context, tag string) ([]byte, error) {
	i, err := f.index()
	if err != nil {
		return nil, err
	}
	for _, m := range i.Manifests {
		if m.Annotations[ocispec.AnnotationRefName] == tag {
			return Read(ctx, f, m, mostManifest)
		}
	}
	return nil, fmt.Errorf("%w: %s", ErrNotFound, tag)
}

// Attached implements Store.
func (f *Folder) Attached(ctx context.Context, to ocispec.Descriptor, kind string) ([][]byte, error) {
	i, err := f.index()
	if err != nil {
		return nil, err
	}
	var all [][]byte
	for _, m := range i.Manifests {
		if m.ArtifactType != kind {
			continue
		}
		content, err := Read(ctx, f, m, mostManifest)
		if err != nil {
			return nil, err
		}
		if subjectOf(content, kind) == to.Digest {
			all = append(all, content)
		}
	}
	return all, nil
}

// Has implements Store.
func (f *Folder) Has(_ context.Context, blob ocispec.Descriptor) (bool, error) {
	path, err := f.path(blob.Digest)
	if err != nil {
		return false, err
	}
	about, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil && about.Size() == blob.Size, err
}

// Open implements Store.
func (f *Folder) Open(_ context.Context, blob ocispec.Descriptor) (io.ReadCloser, error) {
	path, err := f.path(blob.Digest)
	if err != nil {
		return nil, err
	}
	file, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %w", ErrNotFound, err)
	}
	return file, err
}

// Push implements Store.
func (f *Folder) Push(ctx context.Context, blob ocispec.Descriptor, content []byte) error {
	if there, err := f.Has(ctx, blob); there || err != nil {
		return err
	}
	path, err := f.path(blob.Digest)
	if err != nil {
		return err
	}
	return f.write(path, content)
}

// write writes a file of the folder.
func (f *Folder) write(path string, content []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return WriteWhole(path, 0o644, func(w io.Writer) error {
		_, err := w.Write(content)
		return err
	})
}

// WriteWhole writes a file so that it is there whole or not at all, whenever the power goes.
func WriteWhole(path string, mode fs.FileMode, write func(io.Writer) error) error {
	file, err := os.CreateTemp(filepath.Dir(path), ".part-*")
	if err != nil {
		return err
	}
	err = write(file)
	if err == nil {
		err = file.Chmod(mode)
	}
	if err == nil {
		err = file.Sync()
	}
	err = errors.Join(err, file.Close())
	if err == nil {
		err = os.Rename(file.Name(), path)
	}
	if err != nil {
		_ = os.Remove(file.Name())
	}
	return err
}

// PushManifest implements Store.
func (f *Folder) PushManifest(ctx context.Context, tag string, content []byte) error {
	var m ocispec.Manifest
	if err := json.Unmarshal(content, &m); err != nil {
		return err
	}
	d := Descriptor(m.MediaType, content)
	d.ArtifactType = m.ArtifactType
	if err := f.Push(ctx, d, content); err != nil {
		return err
	}
	return f.change(func(i *ocispec.Index) {
		i.Manifests = slices.DeleteFunc(i.Manifests, func(m ocispec.Descriptor) bool {
			return m.Digest == d.Digest || tag != "" && m.Annotations[ocispec.AnnotationRefName] == tag
		})
		if tag != "" {
			d.Annotations = map[string]string{ocispec.AnnotationRefName: tag}
		}
		i.Manifests = append(i.Manifests, d)
	})
}

// change changes the index, which others do in turn.
func (f *Folder) change(do func(*ocispec.Index)) error {
	if err := os.MkdirAll(f.dir, 0o755); err != nil {
		return err
	}
	lock := flock.New(filepath.Join(f.dir, ".lock"))
	if err := lock.Lock(); err != nil {
		return err
	}
	defer func() { _ = lock.Unlock() }()
	i, err := f.index()
	if err != nil {
		return err
	}
	do(i)
	layout, err := json.Marshal(ocispec.ImageLayout{Version: ocispec.ImageLayoutVersion})
	if err == nil {
		err = f.write(filepath.Join(f.dir, ocispec.ImageLayoutFile), layout)
	}
	content, failed := json.MarshalIndent(i, "", "  ")
	if err = errors.Join(err, failed); err != nil {
		return err
	}
	return f.write(filepath.Join(f.dir, ocispec.ImageIndexFile), content)
}

// Drop implements Store. Blobs that no manifest needs any more are deleted.
func (f *Folder) Drop(ctx context.Context, tag string) error {
	content, err := f.Manifest(ctx, tag)
	if err != nil {
		return err
	}
	dropped := digest.FromBytes(content)
	var failed error
	err = f.change(func(i *ocispec.Index) {
		keep := i.Manifests[:0:0]
		needed := map[digest.Digest]bool{}
		for _, m := range i.Manifests {
			content, err := Read(ctx, f, m, mostManifest)
			if failed = errors.Join(failed, err); err != nil {
				return
			}
			var one ocispec.Manifest
			if err := json.Unmarshal(content, &one); err != nil {
				failed = errors.Join(failed, err)
				return
			}
			if m.Digest == dropped || one.Subject != nil && one.Subject.Digest == dropped {
				continue
			}
			keep = append(keep, m)
			for _, d := range append(append([]ocispec.Descriptor{m}, one.Config), one.Layers...) {
				needed[d.Digest] = true
			}
		}
		i.Manifests = keep
		failed = f.sweep(needed)
	})
	return errors.Join(err, failed)
}

// sweep deletes the blobs that are not needed.
func (f *Folder) sweep(needed map[digest.Digest]bool) error {
	dir := filepath.Join(f.dir, "blobs", digest.Canonical.String())
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		d := digest.NewDigestFromEncoded(digest.Canonical, e.Name())
		if d.Validate() == nil && !needed[d] {
			err = errors.Join(err, os.Remove(filepath.Join(dir, e.Name())))
		}
	}
	return err
}
