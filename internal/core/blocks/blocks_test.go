package blocks

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/image/qcow2"
)

// holes is a disk of which parts were never written to, and that says so.
type holes struct{ *bytes.Reader }

func (h holes) Written(at, n int64) (bool, error) {
	part := make([]byte, n)
	_, err := h.ReadAt(part, at)
	return !bytes.Equal(part, make([]byte, n)), err
}

// The digest is what the documentation says, whatever the source knows of its holes, and differs where a
// byte does.
func TestDigest(t *testing.T) {
	chance := rand.New(rand.NewPCG(1, 8))
	for _, size := range []int64{0, 512, Size, 3*Size + 512, 300 * Size} {
		disk := make([]byte, size)
		for range min(40, size/512) {
			disk[chance.Int64N(size)] = byte(1 + chance.IntN(255))
		}
		var all []byte
		for at := int64(0); at < size; at += Size {
			block := make([]byte, Size)
			copy(block, disk[at:])
			sum := sha256.Sum256(block)
			all = append(all, sum[:]...)
		}
		want := sha256.Sum256(all)
		for _, from := range []Source{Whole{bytes.NewReader(disk)}, holes{bytes.NewReader(disk)}} {
			m, err := Read(from, size, nil)
			require.NoError(t, err)
			assert.Equal(t, hex.EncodeToString(want[:]), m.Digest(), "size %d", size)
			assert.Len(t, m.Sums, int(m.Has.Count()))
		}
		if size > 0 {
			disk[size-1] ^= 1
			m, err := Read(Whole{bytes.NewReader(disk)}, size, nil)
			require.NoError(t, err)
			assert.NotEqual(t, hex.EncodeToString(want[:]), m.Digest())
		}
	}
	content := bytes.Repeat([]byte("tide"), 5*Size/4)
	m, err := Read(Whole{bytes.NewReader(content)}, int64(len(content))-100, nil)
	require.NoError(t, err)
	layout, err := qcow2.NewLayout(m.Disk, m.Has)
	require.NoError(t, err)
	require.NoError(t, layout.WriteTo(io.Discard, m.Checked(bytes.NewReader(content))))
	content[3*Size+9] ^= 1
	assert.ErrorIs(t, layout.WriteTo(io.Discard, m.Checked(bytes.NewReader(content))), ErrChanged)
	_, err = Read(Whole{bytes.NewReader(make([]byte, Size))}, 2*Size, nil)
	assert.Error(t, err, "it ends before its end")
	stop := errors.New("stop")
	_, err = Read(Whole{bytes.NewReader(make([]byte, 200*Size))}, 200*Size, func(int64) error { return stop })
	assert.ErrorIs(t, err, stop)
}
