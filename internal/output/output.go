// Package output writes the files that a user asks for, and over no other: what
// somebody else has made stays.
package output

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// ErrRefused is what every refusal unwraps to: nothing was written.
var ErrRefused = errors.New("not written")

// Over says whether a file that is there already may be replaced.
type Over bool

// Whether it may.
const (
	Replace Over = true
	Never   Over = false
)

// Guard knows the files and folders that no output may go to: the setup, the
// sheet, the ledger, keys and logs. Its zero value knows none.
type Guard struct {
	Files   []string
	Folders []string
}

// Check reports whether a file may be written: one that is not there yet, in a folder
// that is; or, if it may be replaced, a regular file that is none of the guard's.
func (g Guard) Check(path string, over Over) error {
	_, err := g.check(path, over)
	return err
}

// check returns the file's own name, behind symbolic links, and what is there now.
func (g Guard) check(path string, over Over) (real string, err error) {
	refuse := func(why string) (string, error) { return "", fmt.Errorf("%w: %s: %s", ErrRefused, path, why) }
	folder, err := filepath.Abs(filepath.Dir(path))
	if err == nil {
		folder, err = filepath.EvalSymlinks(folder)
	}
	if err != nil {
		return refuse("its folder cannot be used: " + cause(err).Error())
	}
	real = filepath.Join(folder, filepath.Base(path))
	info, err := os.Lstat(real)
	if err == nil && info.Mode()&fs.ModeSymlink != 0 {
		if real, err = filepath.EvalSymlinks(real); err != nil {
			return refuse("it is a broken link")
		}
		info, err = os.Stat(real)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return refuse(cause(err).Error())
	}
	there := err == nil
	if what := g.keeps(real, info); what != "" {
		return refuse(what)
	}
	switch {
	case !there:
		return real, nil
	case info.IsDir():
		return refuse("it is a folder")
	case !info.Mode().IsRegular():
		return refuse("it is a device, pipe or socket, not a file")
	case over == Never:
		return refuse("it exists already; give --force to replace it")
	}
	return real, nil
}

// keeps reports what a file is that is never written to; empty if it is none.
func (g Guard) keeps(path string, info fs.FileInfo) string {
	for _, kept := range g.Files {
		own, err := filepath.Abs(kept)
		if err != nil {
			continue
		}
		if folder, err := filepath.EvalSymlinks(filepath.Dir(own)); err == nil {
			own = filepath.Join(folder, filepath.Base(own))
		}
		if is, err := os.Stat(own); own == path || err == nil && info != nil && os.SameFile(is, info) {
			return "it is an input (setup, sheet, ledger, key or disk image) and is never replaced"
		}
	}
	for _, kept := range g.Folders {
		own, err := filepath.Abs(kept)
		if err != nil {
			continue
		}
		if real, err := filepath.EvalSymlinks(own); err == nil {
			own = real
		}
		if strings.HasPrefix(path, own+string(filepath.Separator)) {
			return "its folder is for the logs of runs only"
		}
	}
	return ""
}

// Write writes a file whole or not at all. One that is replaced keeps its owner and
// its mode; mode is that of a new one.
func (g Guard) Write(path string, content []byte, over Over, mode fs.FileMode) error {
	return g.WriteBy(path, over, mode, func(w io.Writer) error {
		_, err := w.Write(content)
		return err
	})
}

// WriteBy is Write of what write writes, which need not be in memory as a whole.
func (g Guard) WriteBy(path string, over Over, mode fs.FileMode, write func(io.Writer) error) error {
	return g.Fill(path, over, mode, func(dir string) error {
		f, err := os.OpenFile(filepath.Join(dir, filepath.Base(path)), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		w := bufio.NewWriter(f)
		return errors.Join(write(w), w.Flush(), f.Sync(), f.Close())
	})
}

// Fill lets a file be written whole or not at all, and files that belong to it: all that fill writes into an empty folder
// is moved beside path, what is called like path at last. What fill writes it also syncs.
func (g Guard) Fill(path string, over Over, mode fs.FileMode, fill func(dir string) error) error {
	real, err := g.check(path, over)
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp(filepath.Dir(real), ".mintbatch-*")
	if err != nil {
		return fmt.Errorf("%w: %s: %w", ErrRefused, path, cause(err))
	}
	defer os.RemoveAll(dir) //nolint:errcheck // what is left in it is of no use
	if err := fill(dir); err != nil {
		return fmt.Errorf("%w: %s: %w", ErrRefused, path, cause(err))
	}
	all, err := os.ReadDir(dir)
	if err != nil {
		return fmt.Errorf("%w: %s: %w", ErrRefused, path, cause(err))
	}
	for _, one := range all {
		if name := one.Name(); name != filepath.Base(path) {
			if err := g.move(filepath.Join(dir, name), filepath.Join(filepath.Dir(path), name), over, mode); err != nil {
				return err
			}
		}
	}
	return g.move(filepath.Join(dir, filepath.Base(path)), path, over, mode)
}

// move gives a file that was written its place.
func (g Guard) move(from, path string, over Over, mode fs.FileMode) error {
	real, err := g.check(path, over)
	if err != nil {
		return err
	}
	refuse := func(err error) error { return fmt.Errorf("%w: %s: %w", ErrRefused, path, cause(err)) }
	f, err := os.Open(from)
	if err != nil {
		return refuse(err)
	}
	if info, err := os.Stat(real); err == nil {
		mode = info.Mode().Perm()
		if err := keepOwner(f, info); err != nil {
			return errors.Join(fmt.Errorf("%w: %s: its owner cannot be preserved: %w", ErrRefused, path, cause(err)), f.Close())
		}
	}
	if err := errors.Join(f.Chmod(mode), f.Close()); err != nil {
		return refuse(err)
	}
	if over == Never {
		err = os.Link(from, real) // which fails where another has come first
		if !errors.Is(err, fs.ErrExist) && err != nil {
			err = os.Rename(from, real) // a file system without links
		}
	} else {
		err = os.Rename(from, real)
	}
	if err != nil {
		return refuse(err)
	}
	return nil
}

// Create opens a file that is written as something goes on. One that is replaced is
// emptied.
func (g Guard) Create(path string, over Over, mode fs.FileMode) (*os.File, error) {
	real, err := g.check(path, over)
	if err != nil {
		return nil, err
	}
	flags := os.O_CREATE | os.O_WRONLY | os.O_TRUNC
	if over == Never {
		flags |= os.O_EXCL
	}
	f, err := os.OpenFile(real, flags, mode)
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrRefused, path, cause(err))
	}
	return f, nil
}

// cause takes the act and the path off an error of a file: both are said anyway.
func cause(err error) error {
	var p *fs.PathError
	var l *os.LinkError
	switch {
	case errors.As(err, &p):
		return p.Err
	case errors.As(err, &l):
		return l.Err
	}
	return err
}
