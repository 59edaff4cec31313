package folder

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/diskfile"
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
