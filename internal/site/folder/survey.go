package folder

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/filename"
	"mintbatch/internal/core/image/formats"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/diskfile"
	"mintbatch/internal/site"
)

// deepest is how many folders machines may be in.
const deepest = 6

// seen is what is in the folder.
type seen struct {
	machines []*folder
	marked   []*folder           // with copies of them
	unclear  map[uuid.UUID]error // why nothing is done to a machine
	foreign  []string            // folders of machines that are not ours
	folders  []string            // that machines may be in
	damaged  []error             // mark files that cannot be read
}

// look goes through the folder.
func (s *Site) look() (*seen, error) {
	if err := s.reach(); err != nil {
		return nil, err
	}
	found, began := &seen{}, time.Now()
	if err := s.lookIn(s.Path, 0, found); err != nil {
		return nil, explain(err)
	}
	s.settle(found)
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, m := range found.machines {
		s.places[m.ID] = m.dir
		if found.unclear[m.ID] != nil {
			delete(s.places, m.ID)
		}
	}
	s.last, s.looked = found, began
	return found, nil
}

// fresh is how old a look may be for what a claim of a name, or the folder of an identity, makes sure of by itself.
const fresh = 5 * time.Second

// recent is what was there a moment ago.
func (s *Site) recent() (*seen, error) {
	s.mu.Lock()
	last, age := s.last, time.Since(s.looked)
	s.mu.Unlock()
	if last != nil && age < fresh {
		return last, nil
	}
	return s.look()
}

func (s *Site) lookIn(dir string, depth int, found *seen) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		path := filepath.Join(dir, e.Name())
		if !e.IsDir() || e.Name() == ownName || strings.HasPrefix(e.Name(), gonePrefix) || dir == s.Path && filename.Same(e.Name(), templatesName) {
			continue
		}
		m, err := read(path)
		switch {
		case err == nil:
			found.machines = append(found.machines, m)
			continue
		case hidden(e.Name()): // begun, and not yet marked
			continue
		case !errors.Is(err, fs.ErrNotExist):
			found.damaged = append(found.damaged, err)
			found.foreign = append(found.foreign, path)
			continue
		}
		is, err := hasDisk(path)
		if err != nil {
			return err
		}
		if is {
			found.foreign = append(found.foreign, path)
			continue
		}
		found.folders = append(found.folders, s.rel(path))
		if depth < deepest {
			if err := s.lookIn(path, depth+1, found); err != nil {
				return err
			}
		}
	}
	return nil
}

// hasDisk reports whether a folder has disk images directly in it.
func hasDisk(dir string) (bool, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return false, err
	}
	return slices.ContainsFunc(entries, func(e fs.DirEntry) bool { _, is := formats.ByEnding(e.Name()); return is && !e.IsDir() }), nil
}

// find finds the folder of a machine.
func (s *Site) find(id uuid.UUID) (*folder, error) {
	if m := s.lastPlace(id); m != nil {
		return m, nil
	}
	found, err := s.look()
	if err != nil {
		return nil, err
	}
	if err := found.unclear[id]; err != nil {
		return nil, err
	}
	if m := s.lastPlace(id); m != nil {
		return m, nil
	}
	if len(found.damaged) > 0 {
		return nil, fmt.Errorf("%w: %w", site.ErrRefused, errors.Join(found.damaged...))
	}
	return nil, fmt.Errorf("%w: no machine %s", site.ErrNotFound, id)
}

// noteAt notes where a machine is now.
func (s *Site) noteAt(id uuid.UUID, dir string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.places[id] = dir
}

// lastPlace is the machine where it was last; nil if it is not there.
func (s *Site) lastPlace(id uuid.UUID) *folder {
	s.mu.Lock()
	dir := s.places[id]
	s.mu.Unlock()
	if dir == "" {
		return nil
	}
	if m, err := read(dir); err == nil && m.ID == id {
		return m
	}
	return nil
}

// Survey implements site.Site.
func (s *Site) Survey(context.Context) (*contract.Survey, error) {
	found, err := s.look()
	if err != nil {
		return nil, err
	}
	answer := &contract.Survey{Hosts: []contract.Host{}, Networks: s.Networks, Folders: found.folders, Templates: []contract.Template{}, Machines: []contract.Machine{}, SideBySide: true}
	store := contract.Store{Name: Store, Kind: "folder"}
	capacity, free, err := diskfile.Room(s.Path)
	if err != nil {
		return nil, explain(err)
	}
	store.Capacity, store.Free = machine.Size(capacity), machine.Size(free)
	answer.Stores = []contract.Store{store}
	linked := map[string]int{}
	for _, m := range found.machines {
		if m.Parent != nil {
			linked[m.parentFile()]++
		}
		if m.Kept {
			answer.Kept = append(answer.Kept, contract.Kept{ID: m.ID, Name: m.Name, Files: m.files()})
			continue
		}
		answer.Machines = append(answer.Machines, s.describe(m))
	}
	for _, path := range found.foreign {
		answer.Machines = append(answer.Machines, contract.Machine{ID: uuid.NewSHA1(uuid.NameSpaceURL, []byte(path)), Name: filepath.Base(path), Store: Store})
	}
	answer.Templates, err = s.templates(linked)
	return answer, explain(err)
}

// describe tells of a machine. Whether it runs is not known. One that has no name yet is not whole, whatever
// its mark says, and one that has was given to its users.
func (s *Site) describe(m *folder) contract.Machine {
	mark := m.Mark
	if mark.Stage = contract.StageMaking; m.placed() {
		mark.Stage = contract.StageMade
	}
	one := contract.Machine{ID: m.ID, Name: m.Name, Mark: &mark, Store: Store, Firmware: m.Firmware, Shape: m.Shape, Adapters: m.Cards}
	if one.Adapters == nil {
		one.Adapters = []machine.Card{}
	}
	for _, path := range m.files() {
		one.Used += machine.Size(diskfile.StoredIn(path))
	}
	if m.Parent != nil {
		one.Saved = machine.Size(diskfile.StoredIn(m.parentFile()))
	}
	return one
}

// files are its disks, its own first.
func (m *folder) files() (all []string) {
	for n := range 1 + len(m.Disks) {
		all = append(all, m.path(m.diskName(n)))
	}
	return all
}

// Machine implements site.Site.
func (s *Site) Machine(_ context.Context, id uuid.UUID) (*contract.Machine, error) {
	m, err := s.find(id)
	if err != nil {
		return nil, err
	}
	if m.Kept {
		return nil, fmt.Errorf("%w: no machine %s", site.ErrNotFound, id)
	}
	one := s.describe(m)
	one.Files = m.files()
	return &one, nil
}
