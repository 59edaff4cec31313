package folder

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/diskfile"
	"mintbatch/internal/site"
)

// Faults implements site.Inspector.
func (s *Site) Faults(_ context.Context, id uuid.UUID) (faults []string, err error) {
	m, err := s.find(id)
	if err != nil {
		return nil, err
	}
	add := func(format string, args ...any) { faults = append(faults, fmt.Sprintf(format, args...)) }
	if m.Parent != nil {
		if changed := m.Parent.changedSince(m.parentFile()); changed != "" {
			add("%s", changed)
		}
	}
	for n, size := range m.sizes() {
		name := m.diskName(n)
		d, err := diskfile.Open(m.path(name), m.Format)
		if errors.Is(err, os.ErrNotExist) && n == 0 && m.Parent != nil && len(faults) > 0 {
			continue // said already
		}
		if err != nil {
			add("its disk %s cannot be used: %s", name, err)
			continue
		}
		found, err := d.Check()
		if err != nil {
			add("its disk %s cannot be checked: %s", name, err)
		}
		for _, one := range found {
			if !one.Waste {
				add("its disk %s is damaged: %s", name, one.What)
				break
			}
		}
		if is := machine.Size(d.Virtual()); is < size {
			add("its disk %s has %s, not %s", name, is, size)
		}
		d.Close()
	}
	if described := s.describedAs(m); described != "" {
		add("%s", described)
	}
	return faults, nil
}

// Files implements site.Portable.
func (s *Site) Files(ctx context.Context, id uuid.UUID) (all []site.PortableFile, err error) {
	m, err := s.find(id)
	if err != nil {
		return nil, err
	}
	if !m.placed() || m.Kept {
		return nil, refused("%s is not made", m.Name)
	}
	faults, err := s.Faults(ctx, id)
	if err == nil && len(faults) > 0 {
		err = refused("%s", strings.Join(faults, "; "))
	}
	if err != nil {
		return nil, err
	}
	add := func(path string, base bool) error {
		rel, err := filepath.Rel(s.Path, path)
		if err != nil || strings.HasPrefix(rel, "..") {
			return refused("%s needs %s, which is not in %s", m.Name, path, s.Path)
		}
		all = append(all, site.PortableFile{Path: path, Name: filepath.ToSlash(rel), Base: base})
		return nil
	}
	if m.Parent != nil { // and what that depends on
		d, err := diskfile.Open(m.parentFile(), "")
		if err != nil {
			return nil, err
		}
		defer d.Close()
		for _, path := range d.Paths {
			if err := add(path, true); err != nil {
				return nil, err
			}
		}
	}
	entries, err := os.ReadDir(m.dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if e.Type().IsRegular() && !hidden(e.Name()) {
			if err := add(m.path(e.Name()), false); err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}
