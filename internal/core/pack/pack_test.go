package pack

import (
	"bytes"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/blocks"
)

// made is a disk of which some blocks can be compressed, some not, some are the same and some zeros.
func made(chance *rand.Rand, n int) []byte {
	disk := make([]byte, n*blocks.Size+512)
	for b := range n {
		fill(chance, disk[b*blocks.Size:][:blocks.Size])
	}
	disk[len(disk)-1] = 7
	return disk
}

func fill(chance *rand.Rand, block []byte) {
	switch chance.IntN(4) {
	case 0:
		clear(block)
	case 1:
		copy(block, bytes.Repeat([]byte("the same"), len(block)/8))
	default:
		for i := range block {
			block[i] = byte(chance.IntN(256)) & 0x3f
		}
	}
}

type packs map[blocks.Sum][]byte

func (p packs) open(i *Index) func(int) io.ReaderAt {
	all := make([]io.ReaderAt, len(i.Packs)) // as they are now: frames are read ahead, and perhaps later
	for n, r := range i.Packs {
		all[n] = bytes.NewReader(p[r.Digest])
	}
	return func(n int) io.ReaderAt { return all[n] }
}

func (p packs) write(t testing.TB, disk []byte, earlier ...*Index) (i *Index, sent int) {
	t.Helper()
	m, err := blocks.Read(blocks.Whole{ReaderAt: bytes.NewReader(disk)}, int64(len(disk)), nil)
	require.NoError(t, err)
	i, err = Write(m, bytes.NewReader(disk), earlier, func(one Pack) error {
		sent += len(one.Content)
		p[one.Digest] = one.Content
		return nil
	})
	require.NoError(t, err)
	return i, sent
}

func (p packs) read(t testing.TB, i *Index) []byte {
	t.Helper()
	d, err := NewDisk(i, p.open(i))
	require.NoError(t, err)
	all := make([]byte, i.Disk)
	n, err := d.ReadAt(all, 0)
	require.NoError(t, err)
	require.Len(t, all, n)
	return all
}

// What was written is read, from the same packs each time; a later version sends little more than what has changed.
func TestPacks(t *testing.T) {
	chance := rand.New(rand.NewPCG(5, 5))
	disk, all := made(chance, 600), packs{}
	one, sent := all.write(t, disk)
	assert.True(t, bytes.Equal(disk, all.read(t, one)))
	again, _ := all.write(t, disk)
	assert.Equal(t, one.Encode(), again.Encode(), "the same disk gives the same packs")
	decoded, err := Decode(one.Encode())
	require.NoError(t, err)
	assert.Equal(t, one, decoded)

	for range 30 { // 5%, anywhere
		fill(chance, disk[chance.IntN(600)*blocks.Size:][:blocks.Size])
	}
	two, more := all.write(t, disk, one)
	assert.True(t, bytes.Equal(disk, all.read(t, two)))
	assert.Less(t, float64(more+len(two.Encode())), 0.08*float64(sent+len(one.Encode())))
	three, none := all.write(t, disk, two, one)
	assert.Zero(t, none)
	assert.True(t, bytes.Equal(disk, all.read(t, three)))

	// Of a pack of which hardly anything is needed, nothing is: who fetches the version would fetch all of it.
	few, _ := all.write(t, disk[:20*blocks.Size], one)
	for _, p := range few.Packs {
		assert.NotEqual(t, one.Packs[0], p)
	}
}

// A pack that is not what the index says is noticed, whatever is wrong with it.
func TestDamagedPacks(t *testing.T) {
	chance := rand.New(rand.NewPCG(5, 6))
	all := packs{}
	i, _ := all.write(t, made(chance, 40))
	whole := all[i.Packs[0].Digest]
	for range 200 {
		damaged := bytes.Clone(whole)
		damaged[chance.IntN(len(damaged))] ^= byte(1 + chance.IntN(255))
		all[i.Packs[0].Digest] = damaged
		d, err := NewDisk(i, all.open(i))
		require.NoError(t, err)
		content := make([]byte, i.Disk)
		_, err = d.ReadAt(content, 0)
		if err == nil {
			all[i.Packs[0].Digest] = whole
			assert.True(t, bytes.Equal(all.read(t, i), content))
		}
	}
	all[i.Packs[0].Digest] = whole[:100]
	d, err := NewDisk(i, all.open(i))
	require.NoError(t, err)
	_, err = d.ReadAt(make([]byte, i.Disk), 0)
	assert.Error(t, err)
}

func FuzzParse(f *testing.F) {
	all := packs{}
	i, _ := all.write(f, made(rand.New(rand.NewPCG(5, 7)), 20))
	f.Add(i.plain())
	f.Fuzz(func(t *testing.T, b []byte) {
		i, err := parse(b)
		if err != nil {
			assert.ErrorIs(t, err, ErrIndex)
			return
		}
		if i.Disk > 1<<30 {
			return
		}
		again, err := parse(i.plain())
		require.NoError(t, err)
		assert.Equal(t, i, again)
		d, err := NewDisk(i, func(int) io.ReaderAt { return bytes.NewReader(nil) })
		if err != nil {
			assert.ErrorIs(t, err, ErrIndex)
			return
		}
		_, _ = d.ReadAt(make([]byte, min(i.Disk, 1<<20)), 0)
	})
}
