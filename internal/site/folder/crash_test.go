package folder

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/image"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/diskfile"
	"mintbatch/internal/site"
)

var id = uuid.MustParse("6f1f7a52-0c3e-5c1e-9d3a-5f6a0c7e1b21")

func open(t *testing.T, format string) *Site {
	t.Helper()
	s, err := New(Options{Path: t.TempDir(), Format: format, Describe: []Description{OVF, Libvirt}, Networks: []string{"lab"}})
	require.NoError(t, err)
	content := make([]byte, 3<<20)
	copy(content[1<<20:], bytes.Repeat([]byte("buoy"), 1<<16))
	raw := filepath.Join(t.TempDir(), "raw")
	require.NoError(t, os.WriteFile(raw, content, 0o600))
	d, err := diskfile.Open(raw, "raw")
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, os.Mkdir(filepath.Join(s.Path, templatesName), 0o700))
	require.NoError(t, diskfile.Write(t.Context(), filepath.Join(s.Path, templatesName, "deb12."+format), s.format, image.Order{Identity: uuid.NameSpaceDNS}, d.Chain, nil, nil))
	return s
}

func order(kind machine.CloneKind) contract.CloneOrder {
	return contract.CloneOrder{Identity: id, Name: "bms-pc-1", Clone: machine.Clone{Template: "deb12", Kind: kind, Folder: "room 4"}, Mark: contract.Mark{Key: "classroom/bms-pc-1", Stage: contract.StageMaking}}
}

// life is what can become of a machine, in the order in which it does.
func life(s *Site, kind machine.CloneKind) []func(ctx context.Context) (contract.Task, error) {
	return []func(ctx context.Context) (contract.Task, error){
		func(ctx context.Context) (contract.Task, error) { return s.Clone(ctx, order(kind)) },
		func(ctx context.Context) (contract.Task, error) {
			return s.Shape(ctx, id, machine.Shape{CPUs: 2, Memory: machine.GiB, Disks: []machine.Disk{{Size: 1 << 20}}}, false)
		},
		func(ctx context.Context) (contract.Task, error) {
			return s.Wire(ctx, id, []machine.Card{{Network: "lab", MAC: "52:54:00:00:00:01"}}, false)
		},
		func(ctx context.Context) (contract.Task, error) { return s.Seed(ctx, id, []byte("answers")) },
		func(ctx context.Context) (contract.Task, error) {
			return s.Record(ctx, id, contract.Mark{Key: "classroom/bms-pc-1", Stage: contract.StageMade})
		},
		func(ctx context.Context) (contract.Task, error) {
			return s.Rename(ctx, id, "bms-desk-1", contract.Mark{Key: "classroom/bms-desk-1", Stage: contract.StageMade}, false)
		},
		func(ctx context.Context) (contract.Task, error) { return s.Detach(ctx, id) },
	}
}

func settled(t *testing.T, s *Site, task contract.Task, err error) error {
	t.Helper()
	for err == nil && !task.Settled() {
		task, err = s.Task(t.Context(), task.ID)
	}
	if err == nil && task.State == contract.Failed {
		err = site.Failure(task)
	}
	return err
}

// content is every file of a folder that is not hidden, and of those that are, their names.
func content(t *testing.T, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		rel, _ := filepath.Rel(dir, path)
		all[rel] = strings.ReplaceAll(string(text), dir, "DIR")
		return err
	}))
	return all
}

var errDead = errors.New("dead")

// dieAt has the nth moment of a change be the last: of a file that is being written there is only a part.
func dieAt(n int) (count *int) {
	count = new(int)
	dead := false
	hook = func(moment, path string) error {
		if *count++; *count == n {
			dead = true
			if _, err := os.Lstat(path); moment == "before" && errors.Is(err, fs.ErrNotExist) && filepath.Ext(path) != "" && n%2 == 0 {
				_ = os.WriteFile(path, []byte("cut short"), 0o600)
			}
		}
		if dead {
			return errDead
		}
		return nil
	}
	return count
}

// Whenever an operator dies, whoever goes on comes to the same files as one who was never disturbed, and can remove them all.
func TestEveryWrite(t *testing.T) {
	defer func() { hook = nil }()
	for _, format := range []string{"vhdx", "qcow2"} {
		for _, kind := range []machine.CloneKind{machine.Linked, machine.Full} {
			if format == "qcow2" && kind == machine.Linked {
				continue
			}
			var want map[string]string
			points := 1
			for n := 0; n <= points; n += every(n) {
				s := open(t, format)
				count := dieAt(n)
				for step, act := range life(s, kind) {
					task, err := act(t.Context())
					if err = settled(t, s, task, err); err == nil {
						continue
					}
					require.ErrorIs(t, err, errDead, "%s %s, ended at %d, step %d", format, kind, n, step)
					hook = nil
					other, err := New(s.Options)
					require.NoError(t, err)
					s = other
					for _, act := range life(s, kind)[step:] {
						task, err := act(t.Context())
						require.NoError(t, settled(t, s, task, err), "%s %s, ended at %d, step %d", format, kind, n, step)
					}
					break
				}
				hook = nil
				has := content(t, s.Path)
				delete(has, ".mintbatch/names/bms-pc-1.json") // of a rename that was cut short; it is nobody's
				if n == 0 {
					want, points = has, *count
					require.Greater(t, points, 20)
				}
				require.Equal(t, len(want), len(has), "%s %s, ended at %d", format, kind, n)
				for name := range want {
					if filepath.Base(name) != markName { // which says when its parent was written
						require.True(t, want[name] == has[name], "%s %s, ended at %d: %s", format, kind, n, name)
					}
				}
				faults, err := s.Faults(t.Context(), id)
				require.NoError(t, err)
				require.Empty(t, faults, "%s %s, ended at %d", format, kind, n)
				if n%2 == 0 {
					removed(t, s, n)
				} else {
					kept(t, s, n)
				}
			}
		}
	}
}

// every is how many points are left out, but for those of the whole harness.
func every(n int) int {
	if n == 0 || os.Getenv("MINTBATCH_FULL") != "" {
		return 1
	}
	return 5
}

// removed removes the machine, dying once, and looks that nothing is left of it.
func removed(t *testing.T, s *Site, n int) {
	t.Helper()
	dieAt(1 + n%6)
	task, err := s.Remove(t.Context(), id, contract.DeleteDisks)
	_ = settled(t, s, task, err)
	hook = nil
	task, err = s.Remove(t.Context(), id, contract.DeleteDisks)
	require.NoError(t, settled(t, s, task, err))
	left := content(t, s.Path)
	delete(left, ".mintbatch/names/bms-pc-1.json")
	delete(left, ".mintbatch/names/bms-desk-1.json")
	require.Len(t, left, 1, "only the template is left")
	answer, err := s.Survey(t.Context())
	require.NoError(t, err)
	require.Empty(t, answer.Machines)
}

// kept removes the machine without its disks, dying once, and looks that these are where they can be found.
func kept(t *testing.T, s *Site, n int) {
	t.Helper()
	is, err := s.Machine(t.Context(), id)
	require.NoError(t, err)
	dieAt(1 + n/2%6)
	task, err := s.Remove(t.Context(), id, contract.KeepDisks)
	_ = settled(t, s, task, err)
	hook = nil
	task, err = s.Remove(t.Context(), id, contract.KeepDisks)
	require.NoError(t, settled(t, s, task, err))
	for _, file := range is.Files {
		require.FileExists(t, filepath.Join(filepath.Dir(file)+"-kept-"+id.String()[:8], filepath.Base(file)))
	}
	require.NoDirExists(t, filepath.Dir(is.Files[0]))
}

// What is not whole, or not as it was, is told.
func TestFaults(t *testing.T) {
	for want, spoil := range map[string]func(s *Site, dir string) error{
		"the disk that it depends on is gone": func(s *Site, _ string) error { return os.Remove(filepath.Join(s.Path, templatesName, "deb12.vhdx")) },
		"the disk that it depends on was changed": func(s *Site, _ string) error {
			return os.Chtimes(filepath.Join(s.Path, templatesName, "deb12.vhdx"), time.Time{}, time.Now().Add(time.Hour))
		},
		"its disk bms-desk-1-data1.vhdx cannot be used": func(_ *Site, dir string) error {
			return os.Truncate(filepath.Join(dir, "bms-desk-1-data1.vhdx"), 70000)
		},
		"its disk bms-desk-1.vhdx cannot be used":    func(_ *Site, dir string) error { return os.Remove(filepath.Join(dir, "bms-desk-1.vhdx")) },
		"its description bms-desk-1.ovf was changed": func(_ *Site, dir string) error { return os.WriteFile(filepath.Join(dir, "bms-desk-1.ovf"), nil, 0o600) },
		"its description bms-desk-1.xml is missing":  func(_ *Site, dir string) error { return os.Remove(filepath.Join(dir, "bms-desk-1.xml")) },
	} {
		s := open(t, "vhdx")
		for _, act := range life(s, machine.Linked)[:6] {
			task, err := act(t.Context())
			require.NoError(t, settled(t, s, task, err))
		}
		require.NoError(t, spoil(s, filepath.Join(s.Path, "room 4", "bms-desk-1")))
		faults, err := s.Faults(t.Context(), id)
		require.NoError(t, err)
		require.Len(t, faults, 1, want)
		assert.Contains(t, faults[0], want)
	}
}

// Names are one machine's, in whatever letters, and those that some system cannot give are refused.
func TestNames(t *testing.T) {
	s := open(t, "vhdx")
	require.NoError(t, os.MkdirAll(filepath.Join(s.Path, "theirs"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(s.Path, "theirs", "x.vmdk"), nil, 0o600))
	task, err := s.Clone(t.Context(), order(machine.Full))
	require.NoError(t, settled(t, s, task, err))
	for name, want := range map[string]string{"BMS-PC-1": "is being made by somebody else", "Theirs": "not ours", "nul": "name of a device", "a:b": "not in the name of a file", "Templates": "cannot be called", "x.": "ends with a dot", strings.Repeat("x", 300): "longer than"} {
		o := order(machine.Full)
		o.Identity, o.Name = uuid.New(), name
		task, err := s.Clone(t.Context(), o)
		err = settled(t, s, task, err)
		require.ErrorIs(t, err, site.ErrRefused, name)
		assert.ErrorContains(t, err, want)
	}
	answer, err := s.Survey(t.Context())
	require.NoError(t, err)
	require.Len(t, answer.Machines, 2)
	i := slices.IndexFunc(answer.Machines, func(m contract.Machine) bool { return m.Name == "theirs" })
	assert.Nil(t, answer.Machines[i].Mark)
}

// Disks of a machine that its users have are enlarged by hand: what the row says is taken over once they are.
func TestDisksThatWereEnlarged(t *testing.T) {
	s := open(t, "raw")
	for _, act := range life(s, machine.Full)[:6] {
		task, err := act(t.Context())
		require.NoError(t, settled(t, s, task, err))
	}
	is, err := s.Machine(t.Context(), id)
	require.NoError(t, err)
	for n, want := range []machine.Shape{{Disk: 8 << 20}, {Disks: []machine.Disk{{Size: 2 << 20}}}} {
		shape := func() error {
			task, err := s.Shape(t.Context(), id, want, false)
			return settled(t, s, task, err)
		}
		require.ErrorContains(t, shape(), "enlarge it with the hypervisor that runs it, or make the machine again with `mintbatch remake`")
		to := want.Disk
		for _, d := range want.Disks {
			to = d.Size
		}
		require.NoError(t, os.Truncate(is.Files[n], int64(to)+1<<20))
		require.ErrorIs(t, shape(), site.ErrRefused, "of another size")
		require.NoError(t, os.Truncate(is.Files[n], int64(to)))
		require.NoError(t, shape())
	}
	faults, err := s.Faults(t.Context(), id)
	require.NoError(t, err)
	assert.Empty(t, faults)
}

// Kept disks are nobody's to delete, and a template that clones depend on stays.
func TestKeptAndNeeded(t *testing.T) {
	s := open(t, "vhdx")
	v := contract.Version{Of: "base", Number: 1, Digest: "x"}
	var sent bytes.Buffer
	qcow2 := filepath.Join(t.TempDir(), "x.qcow2")
	d, err := diskfile.Open(filepath.Join(s.Path, templatesName, "deb12.vhdx"), "")
	require.NoError(t, err)
	o, _ := New(Options{Format: "qcow2"})
	require.NoError(t, diskfile.Write(t.Context(), qcow2, o.format, image.Order{}, d.Chain, nil, nil))
	d.Close()
	text, err := os.ReadFile(qcow2)
	require.NoError(t, err)
	sent.Write(text)
	task, err := s.MakeTemplate(t.Context(), contract.TemplateOrder{Identity: uuid.Max, Disk: 3 << 20, CPUs: 4, Version: v}, contract.Image{Size: int64(len(text)), WriteTo: func(w io.Writer) error { _, err := w.Write(text); return err }})
	require.NoError(t, settled(t, s, task, err))
	linked := order(machine.Linked)
	linked.Template = "base@1"
	task, err = s.Clone(t.Context(), linked)
	require.NoError(t, settled(t, s, task, err))
	task, err = s.DropTemplate(t.Context(), v, uuid.Max)
	assert.ErrorContains(t, settled(t, s, task, err), "bms-pc-1 is a linked clone of it")
	m, err := s.Machine(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, 4, m.CPUs)
	about, err := os.Stat(filepath.Join(s.Path, templatesName, "base@1", "base@1.vhdx"))
	require.NoError(t, err)
	assert.Zero(t, about.Mode().Perm()&0o222)

	task, err = s.Remove(t.Context(), id, contract.KeepDisks)
	require.NoError(t, settled(t, s, task, err))
	answer, err := s.Survey(t.Context())
	require.NoError(t, err)
	assert.Empty(t, answer.Machines)
	require.Len(t, answer.Kept, 1)
	assert.FileExists(t, answer.Kept[0].Files[0])
	for _, act := range []func() (contract.Task, error){
		func() (contract.Task, error) { return s.Remove(t.Context(), id, contract.DeleteDisks) },
		func() (contract.Task, error) { return s.Clone(t.Context(), linked) },
	} {
		task, err := act()
		assert.ErrorContains(t, settled(t, s, task, err), "were kept and are never deleted")
	}
}
