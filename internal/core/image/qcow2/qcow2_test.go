package qcow2

import (
	"bytes"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/image"
)

// disk is the content of a disk whose holes are zeros.
func disk(t testing.TB, d *Disk) []byte {
	t.Helper()
	all := make([]byte, d.Size)
	for at := int64(0); at < d.Size; at += d.Cluster() {
		_, err := d.ReadAt(all[at:min(at+d.Cluster(), d.Size)], at)
		require.NoError(t, err)
	}
	return all
}

func tool(t testing.TB, dir string, args ...string) {
	t.Helper()
	if _, err := exec.LookPath(args[0]); err != nil {
		t.Skip("skipped: there is no " + args[0])
	}
	c := exec.Command(args[0], args[1:]...)
	c.Dir = dir
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
}

// An image is read as QEMU wrote it, as it is and as it was at each of its checkpoints.
func TestReadsAsQEMUWrites(t *testing.T) {
	chance := rand.New(rand.NewPCG(3, 7))
	for _, options := range []string{"compat=1.1", "compat=0.10", "cluster_size=4k", "cluster_size=2M", "preallocation=metadata"} {
		t.Run(options, func(t *testing.T) {
			dir := t.TempDir()
			tool(t, dir, "qemu-img", "create", "-q", "-f", "qcow2", "-o", options, "x", "9437696")
			var states [][]byte
			for _, name := range []string{"fresh", "ready", ""} {
				for range 20 {
					at, n := chance.IntN(9437696/512-200)*512, (1+chance.IntN(100))*512
					write := "write -q -P " + []string{"0x11", "0x7f", "0x00"}[chance.IntN(3)]
					if chance.IntN(4) == 0 && options != "compat=0.10" {
						write = "write -q -z"
					}
					tool(t, dir, "qemu-io", "-f", "qcow2", "-c", write+" "+strconv.Itoa(at)+" "+strconv.Itoa(n), "x")
				}
				tool(t, dir, "qemu-img", "convert", "-f", "qcow2", "-O", "raw", "x", "raw")
				content, err := os.ReadFile(filepath.Join(dir, "raw"))
				require.NoError(t, err)
				if states = append(states, content); name != "" {
					tool(t, dir, "qemu-img", "snapshot", "-c", name, "x")
				}
			}
			f, err := os.Open(filepath.Join(dir, "x"))
			require.NoError(t, err)
			defer f.Close()
			i, err := Open(f)
			require.NoError(t, err)
			fresh, _ := i.At("FRESH")
			ready, _ := i.At("ready")
			_, other := i.At("other")
			assert.False(t, other)
			for k, d := range []*Disk{fresh, ready, i.Now()} {
				assert.True(t, bytes.Equal(states[k], disk(t, d)), "state %d", k)
			}
		})
	}
}

// A compressed child says what is its own, and names its parent.
func TestReadsCompressedChildren(t *testing.T) {
	dir := t.TempDir()
	tool(t, dir, "qemu-img", "create", "-q", "-f", "raw", "base", "1M")
	tool(t, dir, "qemu-io", "-f", "raw", "-c", "write -q -P 0x17 1000 300000", "base")
	tool(t, dir, "qemu-img", "create", "-q", "-f", "qcow2", "own", "1M")
	tool(t, dir, "qemu-io", "-f", "qcow2", "-c", "write -q -P 0x42 65536 65536", "own")
	tool(t, dir, "qemu-img", "convert", "-c", "-f", "qcow2", "-O", "qcow2", "own", "packed")
	tool(t, dir, "qemu-img", "rebase", "-u", "-f", "qcow2", "-b", "base", "-F", "raw", "packed")
	f, err := os.Open(filepath.Join(dir, "packed"))
	require.NoError(t, err)
	defer f.Close()
	i, err := Open(f)
	require.NoError(t, err)
	assert.Equal(t, "base", i.Backing())
	run, err := i.Now().Run(65536)
	require.NoError(t, err)
	assert.Equal(t, image.Run{State: image.Data, Length: 65536}, run)
	run, err = i.Now().Run(0)
	require.NoError(t, err)
	assert.Equal(t, image.Run{State: image.Below, Length: 65536}, run)

	tool(t, dir, "qemu-img", "convert", "-f", "qcow2", "-O", "raw", "packed", "whole")
	want, err := os.ReadFile(filepath.Join(dir, "whole"))
	require.NoError(t, err)
	base, err := os.Open(filepath.Join(dir, "base"))
	require.NoError(t, err)
	defer base.Close()
	chain := image.Chain{i.Now(), image.Raw{ReaderAt: base, Size: 1 << 20}}
	for _, part := range [][2]int64{{0, 1 << 20}, {65000, 70000}, {999, 2}, {1<<20 - 5, 5}} {
		has := make([]byte, part[1])
		_, err := chain.ReadAt(has, part[0])
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want[part[0]:part[0]+part[1]], has), part)
	}
}

func FuzzOpen(f *testing.F) {
	dir := f.TempDir()
	tool(f, dir, "qemu-img", "create", "-q", "-f", "qcow2", "-o", "cluster_size=512", "x", "64k")
	tool(f, dir, "qemu-img", "snapshot", "-c", "fresh", "x")
	content, err := os.ReadFile(filepath.Join(dir, "x"))
	require.NoError(f, err)
	f.Add(content)
	f.Fuzz(func(t *testing.T, b []byte) {
		i, err := Open(bytes.NewReader(b))
		if err != nil {
			return
		}
		for _, s := range append(i.States(), State{}) {
			d, is := i.At(s.Name)
			if !is {
				d = i.Now()
			}
			for n, at := 0, int64(0); at < d.Size && n < 64; n, at = n+1, at+d.Cluster() {
				if _, err := d.ReadAt(make([]byte, 10), at); err != nil {
					break
				}
			}
		}
	})
}
