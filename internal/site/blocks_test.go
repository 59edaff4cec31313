package site

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is read is what is there, wherever; from one end to the other, few fetches do, and little is kept.
func TestBlocks(t *testing.T) {
	chance := rand.New(rand.NewPCG(2, 3))
	whole := make([]byte, 20<<20+777)
	for i := range whole {
		whole[i] = byte(chance.IntN(256))
	}
	fetches, failing := 0, false
	b := &Blocks{Size: int64(len(whole)), Block: 64 << 10, Keep: 16, Fetch: func(at, n int64) ([]byte, error) {
		if failing {
			return nil, errors.New("away")
		}
		fetches++
		return whole[at : at+n], nil
	}}
	all, err := io.ReadAll(io.NewSectionReader(b, 0, b.Size))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(whole, all))
	assert.Less(t, fetches, 40)
	for range 300 {
		at := chance.Int64N(b.Size)
		part := make([]byte, min(b.Size-at, chance.Int64N(300<<10)))
		n, err := b.ReadAt(part, at)
		require.NoError(t, err)
		require.True(t, bytes.Equal(whole[at:at+int64(n)], part))
		require.LessOrEqual(t, b.held(), b.Block*int64(b.Keep)+mostAhead)
	}
	_, err = b.ReadAt(make([]byte, 10), b.Size-5)
	assert.Equal(t, io.EOF, err)
	failing, b.kept = true, nil
	_, err = b.ReadAt(make([]byte, 10), 0)
	assert.EqualError(t, err, "away")
}
