package qcow2

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/image"
)

// content is a disk in memory.
type content []byte

func (c content) ReadAt(p []byte, at int64) (int, error) {
	return copy(p, c[min(at, int64(len(c))):]), nil
}

// What is written is what QEMU reads, and it finds no fault with the image.
func TestWritesAsQEMUReads(t *testing.T) {
	chance := rand.New(rand.NewPCG(4, 2))
	for _, size := range []int64{0, 512, WriteCluster, 40*WriteCluster + 1536, 600 << 20} {
		dir := t.TempDir()
		whole, has := make(content, size), NewClusters(size)
		for range min(60, size/512) {
			at := chance.Int64N(size)
			whole[at] = byte(1 + chance.IntN(255))
			has.Add(at / WriteCluster)
		}
		l, err := NewLayout(size, has)
		require.NoError(t, err)
		var file bytes.Buffer
		require.NoError(t, l.WriteTo(&file, whole))
		assert.EqualValues(t, l.Length(), file.Len())
		require.NoError(t, os.WriteFile(filepath.Join(dir, "raw"), whole, 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "x"), file.Bytes(), 0o600))
		tool(t, dir, "qemu-img", "check", "-f", "qcow2", "x")
		if size > 0 {
			tool(t, dir, "qemu-img", "compare", "-f", "raw", "-F", "qcow2", "raw", "x")
		}
		i, err := Open(bytes.NewReader(file.Bytes()))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(whole, disk(t, i.Now())), "size %d", size)
		chain := image.Chain{i.Now()}
		for at := int64(0); at < size; at += WriteCluster {
			written, err := chain.Written(at, 1)
			require.NoError(t, err)
			require.Equal(t, has.Has(at/WriteCluster), written)
		}
	}
	_, err := NewLayout(1<<61, nil)
	assert.ErrorIs(t, err, ErrTooLarge)
}

// A disk is read from several sides at once.
func TestReadsSideBySide(t *testing.T) {
	const size = 4 << 30
	has := NewClusters(size)
	for at := int64(0); at < size/WriteCluster; at += 512 { // of every table of the second level a few
		has.Add(at)
	}
	l, err := NewLayout(size, has)
	require.NoError(t, err)
	var file bytes.Buffer
	require.NoError(t, l.WriteTo(&file, numbered{}))
	i, err := Open(bytes.NewReader(file.Bytes()))
	require.NoError(t, err)
	chain := image.Chain{i.Now()}
	var all sync.WaitGroup
	for worker := range 4 {
		all.Go(func() {
			for n := range int64(size / WriteCluster / 512) {
				at := (n*7 + int64(worker)*13) % (size / WriteCluster / 512) * 512 * WriteCluster
				part, want := make([]byte, 8), make([]byte, 8)
				_, err := chain.ReadAt(part, at)
				assert.NoError(t, err)
				_, _ = numbered{}.ReadAt(want, at)
				assert.Equal(t, want, part)
			}
		})
	}
	all.Wait()
}

// numbered is a disk that has at each place its number.
type numbered struct{}

func (numbered) ReadAt(p []byte, at int64) (int, error) {
	for i := 0; i+8 <= len(p); i += 8 {
		binary.BigEndian.PutUint64(p[i:], uint64(at)+uint64(i)+1)
	}
	return len(p), nil
}
