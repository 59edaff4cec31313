package vhdx

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/imagetest"
)

// logged is an image whose log says that a page has other content, and that another is zeros.
func logged(t testing.TB, id uuid.UUID, sequence uint64) (imagetest.Memory, int64) {
	t.Helper()
	var m imagetest.Memory
	w, err := Create(&m, image.Order{Size: 4 << 20, Identity: uuid.New()})
	require.NoError(t, err)
	put, err := w.Prepare(0, bytes.Repeat([]byte{1}, 64*kib))
	require.NoError(t, err)
	require.NoError(t, put())
	length, err := w.Close()
	require.NoError(t, err)
	m = append(m, make([]byte, length-m.Size())...)
	data := int64(le.Uint64(m[batAt:]) & placeBits)

	content := bytes.Repeat([]byte{9}, page)
	e := make([]byte, 2*page)
	copy(e, "loge")
	le.PutUint32(e[8:], uint32(len(e)))
	le.PutUint64(e[16:], sequence)
	le.PutUint32(e[24:], 2)
	image.PutGUID(e[32:], id)
	le.PutUint64(e[48:], uint64(len(m)))
	le.PutUint64(e[56:], uint64(len(m)))
	desc := e[64:]
	copy(desc, "desc")
	copy(desc[4:8], content[page-4:])
	copy(desc[8:16], content[:8])
	le.PutUint64(desc[16:], uint64(data+page))
	le.PutUint64(desc[24:], sequence)
	zero := e[96:]
	copy(zero, "zero")
	le.PutUint64(zero[8:], page)
	le.PutUint64(zero[16:], uint64(data+3*page))
	le.PutUint64(zero[24:], sequence)
	sector := e[page:]
	copy(sector, "data")
	le.PutUint32(sector[4:], uint32(sequence>>32))
	copy(sector[8:], content[8:page-4])
	le.PutUint32(sector[page-4:], uint32(sequence))
	le.PutUint32(e[4:], sum(e))
	copy(m[logAt:], e)
	for _, at := range headersAt {
		h := m[at : at+headerLen]
		image.PutGUID(h[48:], id)
		le.PutUint32(h[4:], sum(h))
	}
	return m, data
}

// An image that was not closed is read with what its log says, as QEMU reads it.
func TestLogIsReplayed(t *testing.T) {
	m, _ := logged(t, uuid.New(), 1<<32+7)
	i, err := Open(m)
	require.NoError(t, err)
	got := make([]byte, 4<<20)
	_, err = i.ReadAt(got, 0)
	require.NoError(t, err)
	want := make([]byte, 4<<20)
	copy(want, bytes.Repeat([]byte{1}, 64*kib))
	copy(want[page:], bytes.Repeat([]byte{9}, page))
	clear(want[3*page : 4*page])
	assert.True(t, bytes.Equal(want, got))
	assert.Contains(t, i.Remarks[0], "not closed in order")

	if _, err := exec.LookPath("qemu-img"); err != nil {
		t.Skip("skipped: there is no qemu-img")
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x.vhdx"), m, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "raw"), want, 0o600))
	for _, args := range [][]string{{"check", "-r", "all", "-f", "vhdx", "x.vhdx"}, {"compare", "-f", "raw", "-F", "vhdx", "raw", "x.vhdx"}} {
		c := exec.Command("qemu-img", args...)
		c.Dir = dir
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
	}
}

// What is damaged is refused, with what is wrong.
func TestDamagedImages(t *testing.T) {
	for want, spoil := range map[string]func(m imagetest.Memory, data int64){
		"both of its headers are damaged":         func(m imagetest.Memory, _ int64) { m[headersAt[0]+100]++; m[headersAt[1]+100]++ },
		"both of its region tables are damaged":   func(m imagetest.Memory, _ int64) { m[regionsAt[0]+5]++; m[regionsAt[1]+5]++ },
		"of which no part is whole":               func(m imagetest.Memory, _ int64) { m[logAt+page+50]++ },
		"its table of metadata at":                func(m imagetest.Memory, _ int64) { m[metaAt]++ },
		"blocks of":                               func(m imagetest.Memory, _ int64) { le.PutUint32(m[metaAt+le64(m, metaAt+32+4*32+16):], 3) },
		"block 0 is in the state 5":               func(m imagetest.Memory, _ int64) { m[batAt] = 5 },
		"block 0 is there in part":                func(m imagetest.Memory, _ int64) { m[batAt] = 7 },
		"block 0 is said to be at 0":              func(m imagetest.Memory, _ int64) { le.PutUint64(m[batAt:], 6) },
		"the table of blocks and block 0 are bot": func(m imagetest.Memory, _ int64) { le.PutUint64(m[batAt:], batAt|6) },
		"in a file of 6291456 bytes":              func(m imagetest.Memory, _ int64) { le.PutUint64(m[batAt:], 1<<40|6) },
	} {
		m, data := logged(t, uuid.New(), 1)
		spoil(m, data)
		i, err := Open(m)
		if err == nil {
			found, failed := i.Check()
			require.NoError(t, failed)
			require.NotEmpty(t, found, want)
			assert.Contains(t, found[0].What, want)
			continue
		}
		require.ErrorIs(t, err, image.ErrImage)
		assert.ErrorContains(t, err, want)
	}
	m, _ := logged(t, uuid.New(), 1) // one header is enough
	m[headersAt[1]+100]++
	_, err := Open(m)
	assert.NoError(t, err)
}

// FuzzLog spoils an entry of a log, whose checksum is right all the same.
func FuzzLog(f *testing.F) {
	id := uuid.Max
	whole, _ := logged(f, id, 1)
	f.Add(uint16(8), []byte{0, 0x20}, uint16(64), []byte("zero"))
	f.Add(uint16(24), []byte{0xff, 0xff, 0xff, 0xff}, uint16(72), []byte{0xff})
	f.Add(uint16(48), bytes.Repeat([]byte{0xff}, 16), uint16(104), bytes.Repeat([]byte{0x7f}, 8))
	f.Fuzz(func(t *testing.T, at uint16, b []byte, at2 uint16, b2 []byte) {
		m := bytes.Clone(whole)
		e := m[logAt : logAt+2*page]
		copy(e[int(at)%len(e):], b)
		copy(e[int(at2)%len(e):], b2)
		if length := int64(le.Uint32(e[8:])); length >= page && length <= mib {
			e = m[logAt : logAt+length]
		}
		le.PutUint32(e[4:], sum(e))
		i, err := Open(imagetest.Memory(m))
		if err != nil {
			return
		}
		_, _ = i.Check()
		_, _ = image.Chain{i}.ReadAt(make([]byte, 1<<16), 0)
	})
}

func le64(m imagetest.Memory, at int64) int64 { return int64(le.Uint32(m[at:])) }
