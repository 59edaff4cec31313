package media

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/kdomanski/iso9660"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var seed = []File{
	{"user-data", bytes.Repeat([]byte("x"), 5000)}, {"meta-data", []byte("instance-id: a\n")}, {"network-config", nil}, {"network-config2", []byte("b")},
	{"A.LONG.name-with_every.kind", bytes.Repeat([]byte{0, 255}, 1024)},
}

func many(n int) []File {
	var all []File
	for i := range n {
		all = append(all, File{fmt.Sprintf("file-number-%03d-with-a-long-name.conf", i), []byte(fmt.Sprint(i))})
	}
	return all
}

func TestISOReadsBack(t *testing.T) {
	for _, files := range [][]File{seed, many(8), nil} {
		b, err := Image(ISOKind, "cidata", files)
		require.NoError(t, err)
		image, err := iso9660.OpenImage(bytes.NewReader(b))
		require.NoError(t, err)
		label, err := image.Label()
		require.NoError(t, err)
		assert.Equal(t, "cidata", strings.TrimSpace(label))
		root, err := image.RootDir()
		require.NoError(t, err)
		children, err := root.GetChildren()
		require.NoError(t, err)
		got := map[string][]byte{}
		for _, c := range children {
			got[c.Name()], err = io.ReadAll(c.Reader())
			require.NoError(t, err)
		}
		require.Len(t, got, len(files))
		for _, f := range files {
			assert.True(t, bytes.Equal(f.Content, got[f.Name]), f.Name)
		}
	}
}

// What other programs see, by either extension, is byte for byte what went in.
func TestISOInXorriso(t *testing.T) {
	if _, err := exec.LookPath("xorriso"); err != nil {
		t.Skip("skipped: xorriso is not installed")
	}
	for _, files := range [][]File{seed, many(120)} {
		dir := t.TempDir()
		path := filepath.Join(dir, "seed.iso")
		b, err := Image(ISOKind, "cidata", files)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, b, 0o600))
		for _, read := range [][]string{{}, {"-read_fs", "norock"}} {
			out := filepath.Join(dir, "out"+strings.Join(read, ""))
			args := append(append([]string{"-osirrox", "on"}, read...), "-indev", path, "-extract", "/", out)
			said, err := exec.Command("xorriso", args...).CombinedOutput()
			require.NoError(t, err, "%s", said)
			for _, f := range files {
				got, err := os.ReadFile(filepath.Join(out, f.Name))
				require.NoError(t, err)
				assert.True(t, bytes.Equal(f.Content, got), f.Name)
			}
		}
		if said, err := exec.Command("blkid", "-p", "-o", "value", "-s", "LABEL", path).Output(); err == nil {
			assert.Equal(t, "cidata\n", string(said))
		}
	}
}

func TestISOIsReproducibleAndSmall(t *testing.T) {
	a, _ := Image(ISOKind, "cidata", seed)
	b, _ := Image(ISOKind, "cidata", []File{seed[4], seed[2], seed[0], seed[1], seed[3]})
	assert.True(t, bytes.Equal(a, b), "the order of the files does not count")
	empty, _ := Image(ISOKind, "cidata", nil)
	assert.Len(t, empty, 25*2048)
}

func TestImagesRefuse(t *testing.T) {
	for _, c := range []struct {
		label string
		files []File
	}{
		{"", nil}, {strings.Repeat("x", 17), nil}, {"cidata", []File{{"a/b", nil}}}, {"cidata", []File{{"..", nil}}}, {"cidata", []File{{"", nil}}},
		{"cidata", []File{{"a", nil}, {"A", nil}}}, {"cidata", []File{{strings.Repeat("a", 65), nil}}}, {"cidata", []File{{"ü", nil}}},
	} {
		for _, kind := range []Kind{ISOKind, FATKind} {
			_, err := Image(kind, c.label, c.files)
			assert.ErrorIs(t, err, ErrImage)
		}
	}
}

// An image of large files is the one that small ones make, byte for byte, and tells of what is
// too long for one record in several.
func TestStream(t *testing.T) {
	files := []File{{"b.dat", bytes.Repeat([]byte{7}, 5000)}, {"a.dat", []byte("x")}, {"empty", nil}}
	want, err := Image(ISOKind, "CARRY", files)
	require.NoError(t, err)
	open := func(name string) (io.ReadCloser, error) {
		i := slices.IndexFunc(files, func(f File) bool { return f.Name == name })
		return io.NopCloser(bytes.NewReader(files[i].Content)), nil
	}
	s, err := NewStream("CARRY", sizesOf(files))
	require.NoError(t, err)
	var got bytes.Buffer
	require.NoError(t, s.WriteTo(&got, open))
	assert.Equal(t, s.Size, int64(got.Len()))
	assert.True(t, bytes.Equal(want, got.Bytes()))
	files[0].Content = files[0].Content[1:]
	assert.ErrorContains(t, s.WriteTo(io.Discard, open), "b.dat was changed: it had 5000 bytes")

	_, err = NewStream("CARRY", []Large{{"x", MostLarge}, {"y", 1}})
	assert.ErrorIs(t, err, ErrImage)
	large, err := NewStream("CARRY", []Large{{"tiles.img", 9 << 30}})
	require.NoError(t, err)
	if _, err := exec.LookPath("xorriso"); err != nil {
		t.Skip("skipped: there is no xorriso")
	}
	image := filepath.Join(t.TempDir(), "i.iso")
	require.NoError(t, os.WriteFile(image, large.head, 0o600))
	require.NoError(t, os.Truncate(image, large.Size))
	out, err := exec.Command("xorriso", "-indev", image, "-lsl", "/", "--").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Regexp(t, `9663676416 .*tiles\.img`, string(out))
}
