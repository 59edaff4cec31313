package folder

import (
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/filename"
)

// People copy folders, and give them other names. A machine is what is at the place that its mark names, or a folder of its name
// that was moved elsewhere; another one with the same mark is somebody's copy. Where that does not tell which of several is the
// machine, or it has another name, nothing is done to any of them.

// home is the place that a mark names: where its folder is, or will be.
func (s *Site) home(m *folder) string { return s.rel(filepath.Join(filepath.Dir(m.dir), m.Name)) }

// settle finds out which of the folders with a mark are machines.
func (s *Site) settle(found *seen) {
	found.unclear = map[uuid.UUID]error{}
	found.marked = found.machines
	byID := map[uuid.UUID][]*folder{}
	for _, m := range found.machines {
		byID[m.ID] = append(byID[m.ID], m)
	}
	found.machines = slices.DeleteFunc(slices.Clone(found.machines), func(m *folder) bool {
		all := byID[m.ID]
		is, clear := s.choose(all)
		if !clear {
			found.unclear[m.ID] = unclear(all)
		}
		if m != is {
			found.foreign = append(found.foreign, m.dir)
		}
		return m != is
	})
}

// choose picks the machine of several folders with its mark, and whether it is clear that it is.
func (s *Site) choose(all []*folder) (is *folder, clear bool) {
	for _, fits := range []func(m *folder) bool{
		func(m *folder) bool {
			return filepath.Base(m.dir) == prefix+m.ID.String() || filename.Same(s.rel(m.dir), m.Place)
		},
		func(m *folder) bool { return filename.Same(filepath.Base(m.dir), m.Name) || m.Kept },
	} {
		var fitting []*folder
		for _, m := range all {
			if fits(m) {
				fitting = append(fitting, m)
			}
		}
		if len(fitting) > 0 {
			return fitting[0], len(fitting) == 1
		}
	}
	return all[0], false
}

func unclear(all []*folder) error {
	if len(all) == 1 {
		return refused("the folder of %s was given another name, %s: give it its own again; or delete %s in it, and it is a machine that is not ours", all[0].Name, all[0].dir, markName)
	}
	var dirs []string
	for _, m := range all {
		dirs = append(dirs, m.dir)
	}
	return refused("which of these is %s is not known: %s; of all but one delete %s, and they are machines that are not ours", all[0].Name, strings.Join(dirs, ", "), markName)
}
