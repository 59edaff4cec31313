package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"mintbatch/internal/core/image"
	"mintbatch/internal/diskfile"
)

// All that changes files goes through here, so that a test can end it before and after each change.

// hook, if set by a test, is told of a change before and after it; what it returns ends the act.
var hook func(moment, path string) error

func changing(path string, do func() error) error {
	if hook == nil {
		return do()
	}
	if err := hook("before", path); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	return hook("after", path)
}

func rename(from, to string) error {
	return changing(to, func() error { return os.Rename(from, to) })
}

// remove removes a file. One that is not there is removed already.
func remove(path string) error {
	return changing(path, func() error {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	})
}

func removeAll(path string) error {
	if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return changing(path, func() error { return os.RemoveAll(path) })
}

func makeFolder(path string) error {
	return changing(path, func() error { return os.MkdirAll(path, 0o777) })
}

func setMode(path string, mode fs.FileMode) error {
	return changing(path, func() error { return os.Chmod(path, mode) })
}

// writeFile writes a file whole or not at all.
func writeFile(path string, mode fs.FileMode, write func(w io.Writer) error) error {
	return changing(path, func() error {
		f, err := os.CreateTemp(filepath.Dir(path), ".part-*")
		if err != nil {
			return err
		}
		err = write(f)
		err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
		if err == nil {
			err = os.Rename(f.Name(), path)
		}
		if err != nil {
			_ = os.Remove(f.Name())
			return err
		}
		return syncFolder(filepath.Dir(path))
	})
}

// createWhole makes a file with its content at once, if there is none; else fs.ErrExist.
func createWhole(path string, text []byte) error {
	return changing(path, func() error {
		f, err := os.CreateTemp(filepath.Dir(path), ".part-*")
		if err != nil {
			return err
		}
		_, err = f.Write(text)
		err = errors.Join(err, f.Chmod(0o644), f.Sync(), f.Close())
		if err == nil {
			if err = os.Link(f.Name(), path); err != nil && !errors.Is(err, fs.ErrExist) { // a file system without links
				err = createThere(path, text)
			}
		}
		_ = os.Remove(f.Name())
		if err == nil {
			err = syncFolder(filepath.Dir(path))
		}
		return err
	})
}

func createThere(path string, text []byte) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Sync(), f.Close())
}

// writeDisk writes a disk in the format of the site.
func (s *Site) writeDisk(ctx context.Context, path string, o image.Order, from, below image.Chain, done func(at int64)) error {
	return changing(path, func() error { return diskfile.Write(ctx, path, s.format, o, from, below, done) })
}

// syncFolder makes names in a folder durable, where the system can do that.
func syncFolder(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	err = d.Sync()
	if errors.Is(err, errors.ErrUnsupported) || isUnsupported(err) {
		err = nil
	}
	return errors.Join(err, d.Close())
}

// hidden reports whether a name is not for people.
func hidden(name string) bool { return name[0] == '.' }

// mostText bounds a file that is read as a whole.
const mostText = 8 << 20

// readText reads a small file. What is none, such as a pipe that nobody writes to, would never be read to its end.
func readText(path string) ([]byte, error) {
	about, err := os.Stat(path)
	switch {
	case err != nil:
		return nil, err
	case !about.Mode().IsRegular():
		return nil, fmt.Errorf("%s is not a file", path)
	case about.Size() > mostText:
		return nil, fmt.Errorf("%s has %d bytes", path, about.Size())
	}
	return os.ReadFile(path)
}
