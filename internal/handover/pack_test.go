package handover

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packed is a pack without its seal.
func packed(t testing.TB, files ...[2]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for _, f := range files {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: f[0], Mode: 0o600, Size: int64(len(f[1]))}))
		_, err := w.Write([]byte(f[1]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	return b.Bytes()
}

const (
	sumOfA = "ca978112ca1bbdcafac231b39a23dc4da786eff8147c4e72b9807785afee48bb" // of "a"
	listA  = `{"schema":"mintbatch/pack/1","setups":["a"],"files":{"a":"` + sumOfA + `"}}`
)

// Nothing of a pack is believed but what its list has.
func TestUnpackRefuses(t *testing.T) {
	m, contents, err := unpack(bytes.NewReader(packed(t, [2]string{"manifest.json", listA}, [2]string{"a", "a"})))
	require.NoError(t, err)
	assert.Equal(t, []string{"a"}, m.Setups)
	assert.Equal(t, map[string][]byte{"a": []byte("a")}, contents)
	for name, pack := range map[string][]byte{
		"nothing": nil, "no list": packed(t, [2]string{"a", "a"}), "no files": packed(t), "a file less": packed(t, [2]string{"manifest.json", listA}),
		"another content": packed(t, [2]string{"manifest.json", listA}, [2]string{"a", "b"}), "a file more": packed(t, [2]string{"manifest.json", listA}, [2]string{"a", "a"}, [2]string{"b", "a"}),
		"another form": packed(t, [2]string{"manifest.json", `{"schema":"mintbatch/pack/9"}`}),
		"a way out":    packed(t, [2]string{"manifest.json", `{"schema":"mintbatch/pack/1","files":{"../a":"` + sumOfA + `"}}`}, [2]string{"../a", "a"}),
	} {
		_, _, err := unpack(bytes.NewReader(pack))
		assert.ErrorIs(t, err, ErrPack, name)
	}
}

func FuzzUnpack(f *testing.F) {
	f.Add(packed(f, [2]string{"manifest.json", listA}, [2]string{"a", "a"}))
	f.Fuzz(func(t *testing.T, pack []byte) {
		m, contents, err := unpack(bytes.NewReader(pack))
		if err != nil {
			assert.ErrorIs(t, err, ErrPack)
			return
		}
		assert.Len(t, contents, len(m.Files))
		for name := range contents {
			assert.True(t, filepath.IsLocal(name), name)
		}
	})
}
