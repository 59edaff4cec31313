package folder

import (
	"cmp"
	"encoding/json"
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
	"mintbatch/internal/site"
)

// A name belongs to one machine, whoever works in the folder, from before the machine is begun until it is gone: a small file
// says to which. That is made by an act of which a file system lets only one succeed, and outlives whoever made it; the same
// machine may always go on. One whose machine is not there is taken over once it is old, and at once by another clone of the
// same machine.

// claim is what such a file says.
type claim struct {
	Machine uuid.UUID `json:"machine"`
	Name    string    `json:"name"`
}

// claimAge is how old a claim is that is given up if its machine is not there. Only the clock of the file system counts.
const claimAge = 10 * time.Minute

func (s *Site) claimPath(name string) string {
	return filepath.Join(s.Path, ownName, "names", filename.Safe(strings.ToLower(name))+".json")
}

// claimName makes a name that of a machine, or is an ErrRefused that says whose it is.
func (s *Site) claimName(name string, id uuid.UUID, mark contract.Mark) error {
	if err := cmp.Or(filename.Check(name), filename.Check(name+longest())); err != nil {
		return fmt.Errorf("%w: %w", site.ErrRefused, err)
	}
	found, err := s.recent()
	if err != nil {
		return err
	}
	for _, m := range found.machines {
		if m.ID != id && !m.Kept && filename.Same(m.Name, name) && s.stillThere(m) {
			return refused("%s is the name of another machine, in %s", name, m.dir)
		}
	}
	for _, path := range found.foreign {
		if filename.Same(filepath.Base(path), name) {
			return refused("%s is the name of a machine that is not ours: %s", name, path)
		}
	}
	path := s.claimPath(name)
	if err := makeFolder(filepath.Dir(path)); err != nil {
		return err
	}
	text, err := json.Marshal(claim{id, name})
	if err != nil {
		return err
	}
	for range 3 {
		err := createWhole(path, text)
		if err == nil || !errors.Is(err, fs.ErrExist) {
			return err
		}
		is, old, err := claimedSince(path)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue
		case err != nil:
			return err
		case is.Machine == id:
			return nil
		case found.has(is):
			return refused("%s is being made by somebody else (machine %s)", name, is.Machine)
		case !old && !mark.IsOf(is.Machine):
			return refused("%s is being made by somebody else (machine %s), or its folder was deleted by hand: its name is given up %d minutes after it was claimed, so try again then", name, is.Machine, int(claimAge.Minutes()))
		}
		if err := s.takeOver(path, is, mark); err != nil {
			return err
		}
	}
	return refused("the name %s is claimed by others again and again", name)
}

// stillThere reports whether a machine is where it was a moment ago.
func (s *Site) stillThere(m *folder) bool {
	is, err := read(m.dir)
	return err == nil && is.ID == m.ID && is.Name == m.Name && !is.Kept
}

// has reports whether the machine of a claim is there, under that name.
func (f *seen) has(c claim) bool {
	return slices.ContainsFunc(f.machines, func(m *folder) bool { return m.ID == c.Machine && filename.Same(m.Name, c.Name) })
}

// claimed reads a claim. One that was cut short is nobody's.
func claimed(path string) (is claim, err error) {
	text, err := readText(path)
	if err == nil {
		_ = json.Unmarshal(text, &is) // what cannot be read names no machine
	}
	return is, err
}

// isOld reports whether a claim is old by the clock of its file system.
func isOld(path string) (bool, error) {
	about, err := os.Stat(path)
	if err != nil {
		return false, err
	}
	now, err := os.CreateTemp(filepath.Dir(path), ".now-*")
	if err != nil {
		return false, err
	}
	written, err := now.Stat()
	_ = now.Close()
	_ = os.Remove(now.Name())
	if err != nil {
		return false, err
	}
	return written.ModTime().Sub(about.ModTime()) > claimAge, nil
}

// claimedSince reads a claim, and whether it is old.
func claimedSince(path string) (is claim, old bool, err error) {
	if is, err = claimed(path); err == nil {
		old, err = isOld(path)
	}
	return is, old, err
}

// takeOver removes a claim that was given up, or has a clone of the same machine: whoever can make the file that says so does it, and looks again before.
func (s *Site) takeOver(path string, was claim, mark contract.Mark) error {
	sign := path + ".given-up-" + was.Machine.String()
	if err := createWhole(sign, nil); err != nil {
		if errors.Is(err, fs.ErrExist) {
			if about, failed := os.Stat(sign); failed == nil && time.Since(about.ModTime()) > claimAge {
				_ = os.Remove(sign) // of one who did not live to do it
			}
			return refused("somebody else is taking over %s", was.Name)
		}
		return err
	}
	defer os.Remove(sign) //nolint:errcheck // it is old soon
	is, old, err := claimedSince(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if is != was || !old && !mark.IsOf(was.Machine) {
		return nil // whose it is now is looked at next
	}
	return remove(path)
}

// freeName gives up the name of a machine that is gone, unless it is another's.
func (s *Site) freeName(name string, id uuid.UUID) error {
	path := s.claimPath(name)
	is, err := claimed(path)
	if errors.Is(err, fs.ErrNotExist) || err == nil && is.Machine != id {
		return nil
	}
	if err != nil {
		return err
	}
	return remove(path)
}

// place gives a machine that is whole its own name.
func (s *Site) place(m *folder) error {
	if m.placed() {
		return nil
	}
	to := filepath.Join(filepath.Dir(m.dir), m.Name)
	if is, err := claimed(s.claimPath(m.Name)); err != nil || is.Machine != m.ID {
		return fmt.Errorf("%w: the name %s is no longer that of this machine (%w)", site.ErrRefused, m.Name, errors.Join(err, errTaken))
	}
	if err := m.sweep(); err != nil {
		return err
	}
	if err := s.writeDescriptions(m); err != nil {
		return err
	}
	if _, err := os.Lstat(to); err == nil {
		return refused("there is something else at %s", to)
	}
	if err := rename(m.dir, to); err != nil {
		return err
	}
	m.dir = to
	s.noteAt(m.ID, to)
	return syncFolder(filepath.Dir(to))
}

// sweep removes what was left by writes that were cut short.
func (m *folder) sweep() error {
	entries, err := os.ReadDir(m.dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if hidden(e.Name()) {
			if err := removeAll(m.path(e.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}

var errTaken = errors.New("somebody else has taken it")

// longest is the longest that is put behind the name of a machine to name a file.
func longest() string {
	end := ""
	for _, f := range formats.Names() {
		if len(f) > len(end) {
			end = f
		}
	}
	return "-data99." + end
}
