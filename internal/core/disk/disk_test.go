package disk

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// planted is a folder with what file systems store in ways of their own.
func planted(t *testing.T, links bool) string {
	t.Helper()
	dir := t.TempDir()
	put := func(name string, content []byte) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, content, 0o644))
	}
	put("etc/hostname", []byte("bms-tide-01\n"))
	put("etc/empty", nil)
	put("srv/A name that is long, with blanks.text", bytes.Repeat([]byte("north "), 30))
	big := make([]byte, 3<<20)
	for i := range big {
		big[i] = byte(i * i >> 7)
	}
	put("srv/big", big)
	for i := range map[bool]int{true: 700, false: 60}[links] {
		put(fmt.Sprintf("many/sounding-%04d-of-the-survey", i), []byte(fmt.Sprint(i)))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "none"), 0o755))
	if links {
		holes, err := os.Create(filepath.Join(dir, "srv/holes"))
		require.NoError(t, err)
		_, err = holes.WriteAt([]byte("end"), 20<<20)
		require.NoError(t, err)
		require.NoError(t, holes.Close())
		require.NoError(t, os.Symlink("../srv/big", filepath.Join(dir, "etc/short")))
		require.NoError(t, os.Symlink(strings.Repeat("very/", 30)+"long", filepath.Join(dir, "etc/long")))
	}
	return dir
}

// same holds what a file system has against a folder.
func same(t *testing.T, what, dir string, has fs.FS) {
	t.Helper()
	names := 0
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		name, err := filepath.Rel(dir, path)
		require.NoError(t, err)
		about, err := fs.Lstat(has, name)
		require.NoError(t, err, name)
		require.Equal(t, d.Type(), about.Mode().Type(), name)
		switch {
		case d.IsDir():
			entries, err := fs.ReadDir(has, name)
			require.NoError(t, err)
			for _, e := range entries {
				if e.Name() != "lost+found" {
					names++
				}
			}
		case d.Type() == fs.ModeSymlink:
			want, _ := os.Readlink(path)
			got, err := fs.ReadLink(has, name)
			require.NoError(t, err, name)
			require.Equal(t, want, got)
		default:
			want, _ := os.ReadFile(path)
			got, err := fs.ReadFile(has, name)
			require.NoError(t, err, name)
			require.True(t, bytes.Equal(want, got), "%s: %s", what, name)
		}
		names--
		return nil
	}))
	assert.Equal(t, -1, names, "nothing else is there")
}

func made(t *testing.T, size int64, command ...string) Part {
	t.Helper()
	path := command[len(command)-1]
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.NoError(t, os.Truncate(path, size))
	out, err := exec.Command(command[0], command[1:]...).CombinedOutput()
	require.NoError(t, err, "%v: %s", command, out)
	return opened(t, path)
}

func opened(t *testing.T, path string) Part {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	about, err := f.Stat()
	require.NoError(t, err)
	_, parts, err := Parts(Disk{f, about.Size()})
	require.NoError(t, err)
	require.Len(t, parts, 1)
	return parts[0]
}

// needs skips a test where a tool that it judges with is not installed.
func needs(t testing.TB, tools ...string) {
	t.Helper()
	for _, tool := range tools {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("skipped: %s is not installed", tool)
		}
	}
}

// What the systems' own tools write is read as it was written.
func TestFileSystems(t *testing.T) {
	needs(t, "mke2fs", "mkfs.xfs", "mkfs.fat", "mcopy")
	dir := planted(t, true)
	for _, options := range []string{"-t ext4", "-t ext4 -b 1024", "-t ext4 -O inline_data -I 256", "-t ext4 -O ^64bit,^metadata_csum", "-t ext4 -O meta_bg,^resize_inode", "-t ext3", "-t ext2 -b 1024 -I 128", "-t ext2 -b 4096 -O ^dir_index,^filetype"} {
		image := filepath.Join(t.TempDir(), "image")
		p := made(t, 64<<20, append(append([]string{"mke2fs", "-q", "-L", "tides", "-d", dir}, strings.Fields(options)...), image)...)
		v, err := p.Open()
		require.NoError(t, err, options)
		assert.Equal(t, "tides", v.Label)
		same(t, options, dir, v.FS)
	}
	for _, options := range []string{"", "-m crc=0", "-m bigtime=0 -n size=8192", "-b size=1024", "-i size=1024"} {
		image := filepath.Join(t.TempDir(), "image")
		p := made(t, 512<<20, append(append([]string{"mkfs.xfs", "-q", "-L", "tides", "-p", prototype(t, dir)}, strings.Fields(options)...), image)...)
		v, err := p.Open()
		require.NoError(t, err, options)
		assert.Equal(t, "tides", v.Label)
		same(t, options, dir, v.FS)
	}
	dir = planted(t, false)
	for _, options := range []string{"-F 32 -s 1", "-F 16", "-F 12 -s 64"} {
		image := filepath.Join(t.TempDir(), "image")
		made(t, 64<<20, append(append([]string{"mkfs.fat", "-n", "TIDES"}, strings.Fields(options)...), image)...)
		entries, err := os.ReadDir(dir)
		require.NoError(t, err)
		for _, e := range entries {
			out, err := exec.Command("mcopy", "-Qsi", image, filepath.Join(dir, e.Name()), "::").CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
		v, err := opened(t, image).Open()
		require.NoError(t, err, options)
		assert.Equal(t, "TIDES", v.Label)
		same(t, options, dir, v.FS)
		_, err = fs.Stat(v.FS, "ETC/HostName")
		assert.NoError(t, err, "letter case does not matter")
	}
}

// prototype describes a folder for mkfs.xfs.
func prototype(t *testing.T, dir string) string {
	t.Helper()
	var b strings.Builder
	b.WriteString("boot\n0 0\nd--755 0 0\n")
	var folder func(path string)
	folder = func(path string) {
		entries, err := os.ReadDir(path)
		require.NoError(t, err)
		for _, e := range entries {
			below := filepath.Join(path, e.Name())
			name := strings.ReplaceAll(e.Name(), " ", "_")
			switch {
			case e.IsDir():
				fmt.Fprintf(&b, "%s d--755 0 0\n", name)
				folder(below)
				b.WriteString("$\n")
			case e.Type() == fs.ModeSymlink:
				to, _ := os.Readlink(below)
				fmt.Fprintf(&b, "%s l--777 0 0 %s\n", name, to)
			default:
				if name != e.Name() {
					require.NoError(t, os.Rename(below, filepath.Join(path, name)))
				}
				fmt.Fprintf(&b, "%s ---644 0 0 %s\n", name, filepath.Join(path, name))
			}
		}
	}
	folder(dir)
	b.WriteString("$\n")
	file := filepath.Join(t.TempDir(), "prototype")
	require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o600))
	return file
}

// unpacked is a file of testdata.
func unpacked(t testing.TB, name string) []byte {
	t.Helper()
	packed, err := os.Open(filepath.Join("testdata", name))
	require.NoError(t, err)
	defer packed.Close()
	r, err := gzip.NewReader(packed)
	require.NoError(t, err)
	content, err := io.ReadAll(r)
	require.NoError(t, err)
	return content
}

// What ntfs-3g has written: a file in a few runs, one in its own record, and a folder with an index.
func TestNTFS(t *testing.T) {
	content := unpacked(t, "ntfs.gz")
	_, parts, err := Parts(Disk{bytes.NewReader(content), int64(len(content))})
	require.NoError(t, err)
	v, err := parts[0].Open()
	require.NoError(t, err)
	assert.Equal(t, "ntfs", v.Kind)
	text, err := fs.ReadFile(v.FS, "windows/HOST.txt")
	require.NoError(t, err)
	assert.Equal(t, "bms-chart-01\n", string(text))
	text, err = fs.ReadFile(v.FS, "Program Files/A name that is long.text")
	require.NoError(t, err)
	assert.Equal(t, strings.Repeat("north ", 2000), string(text))
	many, err := fs.ReadDir(v.FS, "many")
	require.NoError(t, err)
	assert.Len(t, many, 200)
	top, err := fs.ReadDir(v.FS, ".")
	require.NoError(t, err)
	assert.Len(t, top, 3)
}

// A group of two physical volumes, as lvm2 has described it: root has 19 extents of 1 MiB on the
// second, and the 11th of the first; home has the first 10 of the first.
func TestLogicalVolumes(t *testing.T) {
	needs(t, "mke2fs")
	const mib = 1 << 20
	heads := unpacked(t, "group.gz")
	dir := planted(t, false)
	image := filepath.Join(t.TempDir(), "root")
	made(t, 20*mib, "mke2fs", "-q", "-t", "ext4", "-d", dir, image)
	root, err := os.ReadFile(image)
	require.NoError(t, err)
	all := make([]byte, 38*mib)
	first, second := all[1*mib:17*mib], all[17*mib:37*mib]
	copy(first, heads[:mib])
	copy(second, heads[mib:])
	copy(second[1*mib:], root[:19*mib])
	copy(first[11*mib:], root[19*mib:])
	for i, e := range []struct{ at, count uint32 }{{2048, 32768}, {34816, 40960}} {
		entry := all[0x1be+16*i:]
		entry[4] = 0x8e
		binary.LittleEndian.PutUint32(entry[8:], e.at)
		binary.LittleEndian.PutUint32(entry[12:], e.count)
	}
	all[510], all[511] = 0x55, 0xaa
	table, parts, err := Parts(Disk{bytes.NewReader(all), int64(len(all))})
	require.NoError(t, err)
	assert.Equal(t, MBR, table)
	require.Len(t, parts, 4)
	assert.Equal(t, "brackwater/home", parts[2].Name)
	assert.Equal(t, "brackwater/root", parts[3].Name)
	v, err := parts[3].Open()
	require.NoError(t, err)
	same(t, "lvm", dir, v.FS)

	binary.LittleEndian.PutUint32(all[0x1be+16+12:], 0) // the second is elsewhere
	_, parts, err = Parts(Disk{bytes.NewReader(all), int64(len(all))})
	assert.ErrorContains(t, err, "volume brackwater/root: a part of it is on another disk")
	assert.Len(t, parts, 2)
}

// Tables of partitions, as sfdisk writes them.
func TestPartitions(t *testing.T) {
	needs(t, "sfdisk")
	for _, c := range []struct {
		script string
		table  Table
		want   string
	}{
		{"label: gpt\n,1M,21686148-6449-6E6F-744E-656564454649\n,16M,U\n,,L\n", GPT, "1 bios 1, 2 efi 16, 3  45, "},
		{"label: dos\n,16M,ef\n,8M,L\n,,E\n,4M,L\n,5M,8e\n", MBR, "1 efi 16, 2  8, 5  4, 6 lvm 5, "},
	} {
		image := filepath.Join(t.TempDir(), "image")
		require.NoError(t, os.WriteFile(image, nil, 0o600))
		require.NoError(t, os.Truncate(image, 64<<20))
		divide := exec.Command("sfdisk", "-q", image)
		divide.Stdin = strings.NewReader(c.script)
		out, err := divide.CombinedOutput()
		require.NoError(t, err, "%s", out)
		content, err := os.ReadFile(image)
		require.NoError(t, err)
		look := func() (Table, string, error) {
			table, parts, err := Parts(Disk{bytes.NewReader(content), int64(len(content))})
			text := ""
			for _, p := range parts {
				text += fmt.Sprintf("%s %s %d, ", p.Name, p.Kind, p.Size>>20)
			}
			return table, text, err
		}
		table, text, err := look()
		require.NoError(t, err)
		assert.Equal(t, c.table, table)
		assert.Equal(t, c.want, text)
		if table == GPT { // the one at the end counts where that at the beginning is gone
			header := bytes.Clone(content[512:1024])
			clear(content[512:1024])
			_, again, err := look()
			require.NoError(t, err)
			assert.Equal(t, text, again)
			copy(content[512:], header)
		}
		content = content[:20<<20]
		_, _, err = look()
		assert.ErrorContains(t, err, "not on the disk")
	}
}

// patched is a disk of which a part was written over.
type patched struct {
	io.ReaderAt
	at    int64
	patch []byte
}

// ReadAt implements io.ReaderAt.
func (p patched) ReadAt(b []byte, at int64) (int, error) {
	n, err := p.ReaderAt.ReadAt(b, at)
	if skip := p.at - at; skip < int64(len(b)) && -skip < int64(len(p.patch)) {
		copy(b[max(skip, 0):], p.patch[max(-skip, 0):])
	}
	return n, err
}

// Whatever is written over a part of a disk, it is read without a panic, and to an end.
func FuzzOpen(f *testing.F) {
	needs(f, "mke2fs", "mkfs.xfs", "mkfs.fat")
	dir := f.TempDir()
	require.NoError(f, os.WriteFile(filepath.Join(dir, "host"), bytes.Repeat([]byte("tide"), 5000), 0o600))
	require.NoError(f, os.Symlink(strings.Repeat("far/", 40), filepath.Join(dir, "link")))
	proto := filepath.Join(f.TempDir(), "proto")
	require.NoError(f, os.WriteFile(proto, []byte("boot\n0 0\nd--755 0 0\nhost ---644 0 0 "+dir+"/host\nsub d--755 0 0\n$\n$\n"), 0o600))
	var disks []Disk
	for _, tool := range [][]string{{"mke2fs", "-q", "-t", "ext4", "-d", dir}, {"mke2fs", "-q", "-t", "ext2", "-d", dir}, {"mkfs.fat"}, {"mkfs.xfs", "-q", "-p", proto}} {
		image := filepath.Join(f.TempDir(), "image")
		require.NoError(f, os.WriteFile(image, nil, 0o600))
		require.NoError(f, os.Truncate(image, 512<<20))
		require.NoError(f, exec.Command(tool[0], append(tool[1:], image)...).Run())
		file, err := os.Open(image)
		require.NoError(f, err)
		disks = append(disks, Disk{file, 512 << 20})
	}
	for _, name := range []string{"group.gz", "ntfs.gz"} {
		content := unpacked(f, name)
		disks = append(disks, Disk{bytes.NewReader(content), int64(len(content))})
	}
	for i := range disks {
		f.Add(byte(i), uint32(1024+0x18), []byte{7, 0, 0, 0, 7})
		f.Add(byte(i), uint32(0x8000), []byte{0xff, 0xff})
	}
	f.Fuzz(func(t *testing.T, which byte, at uint32, patch []byte) {
		d := disks[int(which)%len(disks)]
		d.ReaderAt = patched{d.ReaderAt, int64(at), patch}
		_, parts, _ := Parts(d)
		for _, p := range parts {
			v, err := p.Open()
			if err != nil || v.FS == nil {
				continue
			}
			seen := 0
			_ = fs.WalkDir(v.FS, ".", func(path string, d fs.DirEntry, err error) error {
				if seen++; seen > 100 || strings.Count(path, "/") > 10 {
					return fs.SkipAll
				}
				if err == nil && d.Type().IsRegular() {
					if about, err := d.Info(); err == nil && about.Size() < 1<<20 {
						_, _ = fs.ReadFile(v.FS, path)
					}
				}
				return nil
			})
		}
	})
}

// What cannot be read, or is no file system, is named.
func TestOthersAreNamed(t *testing.T) {
	for _, c := range []struct {
		at    int
		magic string
		kind  string
	}{{4086, "SWAPSPACE2", "swap"}, {4086, "S1SUSPEND", "hibernation"}, {0, "LUKS\xba\xbe", "luks (encrypted)"}, {0x10040, "_BHRfS_M", "btrfs"}, {0, "nothing", ""}} {
		content := make([]byte, 1<<17)
		copy(content[c.at:], c.magic)
		v, err := Part{Size: int64(len(content)), ReaderAt: bytes.NewReader(content)}.Open()
		require.NoError(t, err)
		assert.Nil(t, v.FS)
		assert.Equal(t, c.kind, v.Kind)
	}
}
