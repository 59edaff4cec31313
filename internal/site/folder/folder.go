// Package folder is a kind of site that has no interface: machines are folders of files, which their users start by whatever
// hypervisor they have. docs/folder.md describes the files.
package folder

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/image/formats"
	"mintbatch/internal/site"
)

// Options say how a site is.
type Options struct {
	// Path is the folder. It must be there: one that is not is a share that is not connected.
	Path string
	// Format is that of the disks of machines.
	Format string
	// Describe lists the kinds of descriptions that are written beside disks.
	Describe []Description
	// Networks are the names that rows may use.
	Networks []string
}

// Description is a kind of file that tells a hypervisor what a machine is.
type Description string

// The kinds of descriptions.
const (
	OVF     Description = "ovf"
	Libvirt Description = "libvirt"
)

// Store is the name of the one store of such a site.
const Store = "folder"

// Site is a folder.
type Site struct {
	Options
	format formats.Format
	tasks  site.Tasks

	mu     sync.Mutex
	places map[uuid.UUID]string // where machines were found last
	last   *seen                // what was there then
	looked time.Time
	busy   map[uuid.UUID]*sync.Mutex
}

var (
	_ site.Site          = (*Site)(nil)
	_ site.DiskReader    = (*Site)(nil)
	_ site.TemplateMaker = (*Site)(nil)
	_ site.Inspector     = (*Site)(nil)
	_ site.Portable      = (*Site)(nil)
)

// New returns a site; nothing is read yet.
func New(o Options) (*Site, error) {
	format, known := formats.Of(o.Format)
	if !known {
		return nil, fmt.Errorf("unknown format %q", o.Format)
	}
	return &Site{Options: o, format: format, places: map[uuid.UUID]string{}, busy: map[uuid.UUID]*sync.Mutex{}}, nil
}

// The names of what is in the folder besides machines.
const (
	templatesName = "templates"
	ownName       = ".mintbatch"  // for claims of names
	prefix        = ".mintbatch-" // begins the names of folders that are not whole, or are being deleted
	gonePrefix    = ".mintbatch-gone-"
	markName      = "mintbatch.json"
)

// rel is the path of what is below the folder, from there on, with / between folders.
func (s *Site) rel(path string) string {
	rel, err := filepath.Rel(s.Path, path)
	if err != nil { // which it is not
		return ""
	}
	return filepath.ToSlash(rel)
}

// reach is an error if the folder is not there.
func (s *Site) reach() error {
	about, err := os.Stat(s.Path)
	if err != nil {
		return explain(err)
	}
	if !about.IsDir() {
		return fmt.Errorf("%w: %s is not a folder", site.ErrUnreachable, s.Path)
	}
	return nil
}

// explain says of what kind a failure of the file system is.
func explain(err error) error {
	switch {
	case err == nil, errors.Is(err, site.ErrRefused), errors.Is(err, site.ErrNotFound), errors.Is(err, site.ErrUnreachable), errors.Is(err, site.ErrFull):
		return err
	case isFull(err):
		return fmt.Errorf("%w: %w", site.ErrFull, err)
	case errors.Is(err, fs.ErrPermission), isReadOnly(err):
		return fmt.Errorf("%w: %w", site.ErrRefused, err)
	case errors.Is(err, fs.ErrNotExist), isGone(err):
		return fmt.Errorf("%w: %w", site.ErrUnreachable, err)
	}
	return err
}

// act does something with one machine, alone.
func (s *Site) act(ctx context.Context, id uuid.UUID, do func(ctx context.Context, share func(float64)) error) (contract.Task, error) {
	return s.tasks.Start(ctx, func(ctx context.Context, share func(float64)) error {
		s.mu.Lock()
		one := s.busy[id]
		if one == nil {
			one = &sync.Mutex{}
			s.busy[id] = one
		}
		s.mu.Unlock()
		one.Lock()
		defer one.Unlock()
		if err := s.reach(); err != nil {
			return err
		}
		return explain(do(ctx, share))
	})
}

// change does something with one machine that is there.
func (s *Site) change(ctx context.Context, id uuid.UUID, do func(ctx context.Context, m *folder) error) (contract.Task, error) {
	return s.act(ctx, id, func(ctx context.Context, _ func(float64)) error {
		m, err := s.find(id)
		if err != nil {
			return err
		}
		if m.Kept {
			return m.keptError()
		}
		return do(ctx, m)
	})
}

// Task implements site.Site.
func (s *Site) Task(ctx context.Context, id string) (contract.Task, error) {
	return s.tasks.Poll(ctx, id)
}
