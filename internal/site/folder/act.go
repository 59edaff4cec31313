package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/filename"
	"mintbatch/internal/core/image"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/diskfile"
	"mintbatch/internal/site"
)

func refused(format string, args ...any) error {
	return fmt.Errorf("%w: %s", site.ErrRefused, fmt.Sprintf(format, args...))
}

// save writes what has changed of a machine.
func (s *Site) save(m *folder) error {
	m.Place = s.home(m)
	if err := m.write(); err != nil {
		return err
	}
	return s.describeAgain(m)
}

// Shape implements site.Site.
func (s *Site) Shape(ctx context.Context, id uuid.UUID, shape machine.Shape, _ contract.Restart) (contract.Task, error) {
	return s.change(ctx, id, func(ctx context.Context, m *folder) error {
		if err := s.setShape(ctx, m, shape); err != nil {
			return err
		}
		return s.save(m)
	})
}

// Wire implements site.Site.
func (s *Site) Wire(ctx context.Context, id uuid.UUID, adapters []machine.Card, _ contract.Restart) (contract.Task, error) {
	return s.change(ctx, id, func(_ context.Context, m *folder) error {
		m.Cards = adapters
		return s.save(m)
	})
}

// Seed implements site.Site.
func (s *Site) Seed(ctx context.Context, id uuid.UUID, content []byte) (contract.Task, error) {
	return s.change(ctx, id, func(_ context.Context, m *folder) error {
		if content == nil {
			return s.without(m, m.seedName())
		}
		return s.with(m, m.seedName(), func(w io.Writer) error { _, err := w.Write(content); return err })
	})
}

// Carry implements site.Site.
func (s *Site) Carry(ctx context.Context, id uuid.UUID, content contract.Image) (contract.Task, error) {
	return s.change(ctx, id, func(_ context.Context, m *folder) error {
		if content.WriteTo == nil {
			return s.without(m, m.filesName())
		}
		return s.with(m, m.filesName(), content.WriteTo)
	})
}

// with writes an image beside the disks. It may have passwords in it.
func (s *Site) with(m *folder, name string, write func(w io.Writer) error) error {
	if err := writeFile(m.path(name), 0o600, write); err != nil {
		return err
	}
	return s.describeAgain(m)
}

func (s *Site) without(m *folder, name string) error {
	if err := remove(m.path(name)); err != nil {
		return err
	}
	return s.describeAgain(m)
}

// Insert implements site.Site.
func (s *Site) Insert(ctx context.Context, id uuid.UUID, image string) (contract.Task, error) {
	return s.change(ctx, id, func(context.Context, *folder) error {
		if image == "" {
			return nil
		}
		return refused("a folder has no store with media (%s); use the hypervisor that runs the machine", image)
	})
}

// Checkpoint implements site.Site.
func (s *Site) Checkpoint(ctx context.Context, id uuid.UUID, name string) (contract.Task, error) {
	return s.change(ctx, id, func(context.Context, *folder) error {
		return refused("a folder keeps no checkpoints (%s): it is not known whether the machine runs", name)
	})
}

// Restore implements site.Site.
func (s *Site) Restore(ctx context.Context, id uuid.UUID, name string) (contract.Task, error) {
	return s.Checkpoint(ctx, id, name)
}

// Drop implements site.Site.
func (s *Site) Drop(ctx context.Context, id uuid.UUID, _ string) (contract.Task, error) {
	return s.change(ctx, id, func(context.Context, *folder) error { return nil })
}

// Detach implements site.Site.
func (s *Site) Detach(ctx context.Context, id uuid.UUID) (contract.Task, error) {
	return s.change(ctx, id, func(ctx context.Context, m *folder) error {
		if m.Parent == nil {
			return nil
		}
		d, err := diskfile.Open(m.system(), m.Format)
		if err != nil {
			return err
		}
		defer d.Close()
		part := m.path(".whole")
		if err := removeAll(part); err != nil {
			return err
		}
		if len(d.Images) > 1 { // else an earlier try came that far
			if err := s.writeDisk(ctx, part, image.Order{Identity: identityOf(m.ID, 0), Name: m.diskName(0)}, d.Chain, nil, nil); err != nil {
				return err
			}
			d.Close()
			if err := rename(part, m.system()); err != nil {
				return err
			}
		}
		m.Parent = nil
		return s.save(m)
	})
}

// Record implements site.Site. A machine that is made gets its name.
func (s *Site) Record(ctx context.Context, id uuid.UUID, mark contract.Mark) (contract.Task, error) {
	return s.change(ctx, id, func(_ context.Context, m *folder) error {
		m.Mark = mark
		if err := s.save(m); err != nil {
			return err
		}
		if mark.Stage == contract.StageMade {
			return s.place(m)
		}
		return nil
	})
}

// WriteDescriptions implements site.Inspector.
func (s *Site) WriteDescriptions(ctx context.Context, id uuid.UUID) error {
	t, err := s.change(ctx, id, func(_ context.Context, m *folder) error { return s.describeAgain(m) })
	for err == nil && !t.Settled() {
		t, err = s.Task(ctx, t.ID)
	}
	if err == nil && t.State == contract.Failed {
		err = site.Failure(t)
	}
	return err
}

// Power implements site.Site: whoever starts the machine finds it by its name from now on.
func (s *Site) Power(ctx context.Context, id uuid.UUID, power machine.Power) (contract.Task, error) {
	return s.change(ctx, id, func(_ context.Context, m *folder) error {
		if power == machine.On {
			return s.place(m)
		}
		return nil
	})
}

// Rename implements site.Site. While it is at it, the folder has no name.
func (s *Site) Rename(ctx context.Context, id uuid.UUID, name string, mark contract.Mark, _ contract.Restart) (contract.Task, error) {
	return s.change(ctx, id, func(_ context.Context, m *folder) error {
		if m.Name == name && m.placed() {
			m.Mark = mark
			return s.save(m)
		}
		if filename.Same(name, templatesName) {
			return refused("a machine of a folder cannot be called %s", name)
		}
		if err := s.claimName(name, id, mark); err != nil {
			return err
		}
		if m.placed() {
			to := filepath.Join(filepath.Dir(m.dir), prefix+id.String())
			if err := rename(m.dir, to); err != nil {
				return err
			}
			m.dir = to
		}
		was := m.record
		next := *m
		next.Name, next.Mark = name, mark
		next.Place = s.home(&next)
		for n := range 1 + len(m.Disks) {
			if err := renameIn(m.dir, was.diskName(n), next.diskName(n)); err != nil {
				return err
			}
		}
		for _, pair := range [][2]string{{was.seedName(), next.seedName()}, {was.filesName(), next.filesName()}} {
			if err := renameIn(m.dir, pair[0], pair[1]); err != nil {
				return err
			}
		}
		for _, d := range descriptions {
			if err := remove(m.path(was.Name + d.ending)); err != nil {
				return err
			}
		}
		if err := next.write(); err != nil {
			return err
		}
		if err := s.place(&next); err != nil {
			return err
		}
		if filename.Same(was.Name, name) {
			return nil
		}
		return s.freeName(was.Name, id)
	})
}

// renameIn gives a file of a folder another name. One that has it already was renamed by an earlier try.
func renameIn(dir, from, to string) error {
	err := rename(filepath.Join(dir, from), filepath.Join(dir, to))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

// Examine implements site.Site.
func (s *Site) Examine(context.Context, uuid.UUID, []contract.Check) ([]contract.Check, error) {
	return nil, refused("a folder does not reach guests")
}
