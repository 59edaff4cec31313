package folder

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/filename"
	"mintbatch/internal/site"
)

// Remove implements site.Site. The folder first gets a name by which it is no machine any more.
func (s *Site) Remove(ctx context.Context, id uuid.UUID, disks contract.Disks) (contract.Task, error) {
	return s.act(ctx, id, func(_ context.Context, _ func(float64)) error {
		m, err := s.find(id)
		if errors.Is(err, site.ErrNotFound) {
			return s.removeRemains(id)
		}
		if err != nil {
			return err
		}
		switch {
		case disks == contract.KeepDisks: // also once more, if that was cut short
			return s.keep(m)
		case m.Kept:
			return m.keptError()
		case disks == contract.KeepData && len(m.Disks) > 0:
			return refused("a folder cannot give the data disks of %s to another clone", m.Name)
		}
		gone := filepath.Join(filepath.Dir(m.dir), gonePrefix+id.String())
		if err := rename(m.dir, gone); err != nil {
			return err
		}
		if err := s.freeName(m.Name, id); err != nil {
			return err
		}
		return removeAll(gone)
	})
}

// removeRemains deletes what is left of a machine that was being deleted, or that was begun and not marked.
func (s *Site) removeRemains(id uuid.UUID) error {
	found, err := s.look()
	if err != nil {
		return err
	}
	for _, dir := range append([]string{""}, found.folders...) {
		for _, name := range []string{gonePrefix + id.String(), prefix + id.String()} {
			path := filepath.Join(s.Path, filepath.FromSlash(dir), name)
			if m, err := read(path); err == nil && m.Kept {
				return m.keptError()
			}
			if err := removeAll(path); err != nil {
				return err
			}
		}
	}
	return nil
}

// keep leaves the disks, under a name by which they are no machine's, and nothing else.
func (s *Site) keep(m *folder) error {
	if err := makeFolder(filepath.Dir(s.keptSign(m.ID))); err != nil {
		return err
	}
	if err := createWhole(s.keptSign(m.ID), []byte(m.Name)); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	m.Kept = true
	if err := m.write(); err != nil {
		return err
	}
	for _, name := range []string{m.seedName(), m.filesName()} { // which may have passwords in them
		if err := remove(m.path(name)); err != nil {
			return err
		}
	}
	to := filepath.Join(filepath.Dir(m.dir), filename.Safe(m.Name+"-kept-"+m.ID.String()[:8]))
	if m.dir != to { // also one that was not whole
		if err := rename(m.dir, to); err != nil {
			return err
		}
		s.noteAt(m.ID, to)
	}
	return s.freeName(m.Name, m.ID)
}

// keptSign is a file that says that the disks of a machine were kept, wherever they are.
func (s *Site) keptSign(id uuid.UUID) string {
	return filepath.Join(s.Path, ownName, "kept", id.String())
}

// wasKept reports whether they were.
func (s *Site) wasKept(id uuid.UUID) bool {
	_, err := os.Stat(s.keptSign(id))
	return err == nil
}
