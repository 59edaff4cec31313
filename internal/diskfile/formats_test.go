package diskfile

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/formats"
	"mintbatch/internal/core/image/imagetest"
)

// model is a disk in memory.
type model []byte

func (m model) Length() int64 { return int64(len(m)) }

func (m model) Run(at int64) (image.Run, error) {
	return image.Run{State: image.Data, Length: int64(len(m)) - at}, nil
}

func (m model) ReadAt(p []byte, at int64) (int, error) { return copy(p, m[at:]), nil }

// scribble writes at random places.
func (m model) scribble(chance *rand.Rand, times int) {
	for range times {
		at, n := chance.IntN(len(m)/512)*512, (1+chance.IntN(400))*512
		part := m[at:min(at+n, len(m))]
		switch chance.IntN(4) {
		case 0:
			clear(part)
		case 1: // as good as incompressible
			for i := range part {
				part[i] = byte(chance.Uint32())
			}
		default:
			for i := range part {
				part[i] = byte(chance.IntN(2) * 7)
			}
		}
	}
}

func run(t testing.TB, dir, name string, args ...string) string {
	t.Helper()
	if _, err := exec.LookPath(name); err != nil {
		t.Skip("skipped: there is no " + name)
	}
	c := exec.Command(name, args...)
	c.Dir = dir
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
	return string(out)
}

// judge names the format as QEMU does; it writes and reads all of them but children of VHD and VHDX images.
var judge = map[string]string{"qcow2": "qcow2", "vhd": "vpc", "vhdx": "vhdx", "vmdk": "vmdk", "raw": "raw"}

func reads(t testing.TB, want model, path string) {
	t.Helper()
	d, err := Open(path, "")
	require.NoError(t, err)
	defer d.Close()
	damage, err := d.Check()
	require.NoError(t, err)
	require.Empty(t, damage)
	require.Equal(t, want.Length(), d.Length())
	got, err := io.ReadAll(io.NewSectionReader(d, 0, d.Length()))
	require.NoError(t, err)
	require.True(t, bytes.Equal(want, got), path)
	for at := int64(0); at < d.Length(); { // what is said to be zeros is
		run, err := d.Run(at)
		require.NoError(t, err)
		if run.State != image.Data {
			require.True(t, bytes.Equal(want[at:at+run.Length], make([]byte, run.Length)), "%s at %d", path, at)
		}
		at += run.Length
	}
}

// Every image that is written is read back, and QEMU reads the same and finds no fault; the same disk gives the same file.
func TestImagesAreWhatQEMUReads(t *testing.T) {
	chance := rand.New(rand.NewPCG(8, 15))
	for _, name := range formats.Names() {
		f, _ := formats.Of(name)
		for _, variant := range f.Variants {
			if variant == image.Child {
				continue
			}
			t.Run(name+"-"+string(variant), func(t *testing.T) {
				for _, size := range []int{1 << 20, 5<<20 + 512, 33<<20 + 4096} {
					dir := t.TempDir()
					m := make(model, size)
					m.scribble(chance, 30)
					require.NoError(t, os.WriteFile(filepath.Join(dir, "raw"), m, 0o600))
					order := image.Order{Variant: variant, Identity: uuid.NewSHA1(uuid.Nil, []byte(name)), Name: "x" + f.Endings[0]}
					for _, file := range []string{"x", "again/x"} {
						path := filepath.Join(dir, file+f.Endings[0])
						require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
						require.NoError(t, Write(t.Context(), path, f, order, image.Chain{m}, nil, nil))
						reads(t, m, path)
					}
					one, err := os.ReadFile(filepath.Join(dir, "x"+f.Endings[0]))
					require.NoError(t, err)
					other, err := os.ReadFile(filepath.Join(dir, "again/x"+f.Endings[0]))
					require.NoError(t, err)
					require.True(t, bytes.Equal(one, other))
					run(t, dir, "qemu-img", "compare", "-f", "raw", "-F", judge[name], "raw", "x"+f.Endings[0])
					if name == "qcow2" || name == "vhdx" || name == "vmdk" && variant != image.Fixed {
						run(t, dir, "qemu-img", "check", "-f", judge[name], "x"+f.Endings[0])
					}
				}
			})
		}
	}
}

// What QEMU writes is read.
func TestImagesOfQEMU(t *testing.T) {
	chance := rand.New(rand.NewPCG(16, 23))
	for i, options := range [][]string{{"qcow2"}, {"qcow2", "compat=0.10"}, {"qcow2", "cluster_size=512"}, {"qcow2", "compression_type=zstd", "-c"}, {"qcow2", "compression_type=zlib", "-c"}, {"qcow2", "refcount_bits=1"}, {"qcow2", "refcount_bits=64"},
		{"vpc", "subformat=dynamic"}, {"vpc", "subformat=fixed"}, {"vpc", "subformat=dynamic,force_size=on"}, {"vhdx", "subformat=dynamic"}, {"vhdx", "subformat=fixed"}, {"vhdx", "block_size=1M"},
		{"vmdk", "subformat=monolithicSparse"}, {"vmdk", "subformat=monolithicFlat"}, {"vmdk", "subformat=twoGbMaxExtentSparse"}, {"vmdk", "subformat=twoGbMaxExtentFlat"}, {"vmdk", "subformat=streamOptimized"}, {"vmdk", "zeroed_grain=on"}} {
		t.Run(fmt.Sprint(options), func(t *testing.T) {
			dir := t.TempDir()
			m := make(model, 20<<20)
			m.scribble(chance, 40)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "raw"), m, 0o600))
			args := []string{"convert", "-f", "raw", "-O", options[0]}
			if len(options) > 1 {
				args = append(args, "-o", options[1])
			}
			args = append(args, options[min(len(options), 2):]...)
			path := filepath.Join(dir, fmt.Sprintf("x%d.%s", i, options[0]))
			run(t, dir, "qemu-img", append(args, "raw", path)...)
			run(t, dir, "qemu-img", "convert", "-f", options[0], "-O", "raw", path, "back") // VHD images are rounded to a geometry
			back, err := os.ReadFile(filepath.Join(dir, "back"))
			require.NoError(t, err)
			reads(t, back, path)
		})
	}
}

// histories are chains of children that are written at random, each read back at every step.
func TestChains(t *testing.T) {
	rounds := 6
	if os.Getenv("MINTBATCH_FULL") != "" {
		rounds = 125
	}
	chance := rand.New(rand.NewPCG(42, 4))
	for _, name := range []string{"qcow2", "vhd", "vhdx", "vmdk"} {
		t.Run(name, func(t *testing.T) {
			f, _ := formats.Of(name)
			for round := range rounds {
				dir := t.TempDir()
				m := make(model, (1+chance.IntN(8))<<20+chance.IntN(2)*512)
				var below image.Chain
				var parent *image.Image
				var path string
				var files []string
				for depth := range 2 + chance.IntN(3) {
					m.scribble(chance, chance.IntN(12))
					child := filepath.Join(dir, fmt.Sprintf("%d%s", depth, f.Endings[0]))
					order := image.Order{Parent: parent, ParentName: filepath.Base(path), Identity: uuid.NewSHA1(uuid.Nil, fmt.Append(nil, round, depth))}
					require.NoError(t, Write(t.Context(), child, f, order, image.Chain{m}, below, nil))
					reads(t, m, child)
					d, err := Open(child, "")
					require.NoError(t, err)
					require.Len(t, d.Images, depth+1)
					defer d.Close()
					files = append(files, child)
					path, parent, below = child, d.Images[0], d.Chain
				}
				require.NoError(t, os.WriteFile(filepath.Join(dir, "raw"), m, 0o600))
				if name == "qcow2" || name == "vmdk" {
					run(t, dir, "qemu-img", "compare", "-f", "raw", "-F", name, "raw", path)
				} else if exec.Command("/usr/bin/python3", "-c", "import pyvhdi").Run() == nil {
					run(t, dir, "/usr/bin/python3", append([]string{"-c", readChain, "raw"}, files...)...)
				}
			}
		})
	}
}

// readChain reads a chain of VHD or VHDX images by another library, the base first, and compares.
const readChain = `
import pyvhdi, sys
chain = []
for path in sys.argv[2:]:
    f = pyvhdi.file()
    f.open(path)
    if chain:
        assert f.get_parent_identifier() == chain[-1].get_identifier(), f.get_parent_identifier()
        f.set_parent(chain[-1])
    chain.append(f)
want = open(sys.argv[1], 'rb').read()
assert f.get_media_size() == len(want), (f.get_media_size(), len(want))
got = f.read_buffer_at_offset(len(want), 0)
for i in range(0, len(want), 512):
    assert got[i:i+512] == want[i:i+512], 'differs at %d' % i
`

// A parent that is missing, another one, or the child itself is named.
func TestParents(t *testing.T) {
	for _, name := range []string{"qcow2", "vhd", "vhdx", "vmdk"} {
		f, _ := formats.Of(name)
		dir := t.TempDir()
		at := func(name string) string { return filepath.Join(dir, name+f.Endings[0]) }
		require.NoError(t, Write(t.Context(), at("base"), f, image.Order{Identity: uuid.New()}, Empty(1<<20), nil, nil))
		base, err := Open(at("base"), "")
		require.NoError(t, err)
		require.NoError(t, Child(t.Context(), at("child"), base, image.Order{Identity: uuid.New(), ParentName: "base" + f.Endings[0]}))
		base.Close()
		reads(t, make(model, 1<<20), at("child"))
		moved := filepath.Join(dir, "moved") // both together may go anywhere
		require.NoError(t, os.Mkdir(moved, 0o700))
		for _, file := range []string{"base", "child"} {
			require.NoError(t, os.Rename(at(file), filepath.Join(moved, file+f.Endings[0])))
		}
		dir = moved
		reads(t, make(model, 1<<20), at("child"))
		require.NoError(t, os.Remove(at("base")))
		_, err = Open(at("child"), "")
		assert.ErrorContains(t, err, "its parent: file does not exist: base"+f.Endings[0])
		if name != "qcow2" { // which has no identity
			require.NoError(t, Write(t.Context(), at("base"), f, image.Order{Identity: uuid.New()}, Empty(1<<20), nil, nil))
			_, err = Open(at("child"), "")
			assert.ErrorContains(t, err, "is not the image that it is a child of")
			require.NoError(t, os.Remove(at("base")))
		}
		require.NoError(t, os.Link(at("child"), at("base")))
		_, err = Open(at("child"), "")
		assert.Error(t, err)
	}
}

// Deltas as ESX writes them are read with their parents, as QEMU reads them; one whose journal is needed is refused.
func TestDeltas(t *testing.T) {
	for kind, delta := range imagetest.Deltas() {
		dir := t.TempDir()
		m := make(model, 4<<20)
		m.scribble(rand.New(rand.NewPCG(1, 2)), 30)
		fill(m, imagetest.Zeroed, 0x77)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "base-flat.vmdk"), m, 0o600))
		text := "# Disk DescriptorFile\nversion=1\nCID=%s\nparentCID=%s\ncreateType=\"%s\"\n%sRW 8192 %s\n"
		require.NoError(t, os.WriteFile(filepath.Join(dir, "base.vmdk"), fmt.Appendf(nil, text, "01020304", "ffffffff", "vmfs", "", "VMFS \"base-flat.vmdk\""), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "child.vmdk"), fmt.Appendf(nil, text, "01020305", "01020304", kind, "parentFileNameHint=\"base.vmdk\"\n", strings.ToUpper(kind)+" \"child-delta.vmdk\""), 0o600))
		fill(m, imagetest.Written, imagetest.Content)
		if kind == "seSparse" {
			fill(m, imagetest.Zeroed, 0)
		}
		file := filepath.Join(dir, "child-delta.vmdk")
		require.NoError(t, os.WriteFile(file, delta, 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "raw"), m, 0o600))
		reads(t, m, filepath.Join(dir, "child.vmdk"))
		run(t, dir, "qemu-img", "compare", "-f", "raw", "-F", "vmdk", "raw", "child.vmdk")
		_, err := Open(file, "")
		assert.ErrorContains(t, err, "name the file with its descriptor")
	}
	for want, change := range map[string]int{"it was not closed": 512 + 24, "grains of": 24, "no header is at": 512, "a disk of": 22, "headers, tables and grains": 150} {
		dir, changed := t.TempDir(), imagetest.Deltas()["seSparse"]
		changed[change] ^= 0x40
		require.NoError(t, os.WriteFile(filepath.Join(dir, "child.vmdk"), []byte("# Disk DescriptorFile\nCID=1\nparentCID=ffffffff\nRW 8192 SESPARSE \"d.vmdk\"\n"), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "d.vmdk"), changed, 0o600))
		_, err := Open(filepath.Join(dir, "child.vmdk"), "")
		assert.ErrorContains(t, err, want)
	}
}

// fill fills a grain of a disk.
func fill(m model, grain int, with byte) {
	copy(m[grain*4096:], bytes.Repeat([]byte{with}, 4096))
}
