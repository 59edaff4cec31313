package main

import (
	"bytes"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// oneMade is a demo of which one machine is made, with the bytes of its ledger.
func oneMade(t *testing.T) (dir string, ledger []byte) {
	t.Helper()
	dir, _ = served(t, 1000)
	out, err := command(t, dir, "mintbatch", "mint", "--yes", "bms-tide-01")
	require.NoError(t, err, out)
	ledger, err = os.ReadFile(filepath.Join(dir, "mintbatch.ledger"))
	require.NoError(t, err)
	return dir, ledger
}

// Of a ledger with flipped bytes a run either says that it is damaged, leaves it
// as it is and makes nothing, or it was not harmed by them.
func TestLedgerWithFlippedBytes(t *testing.T) {
	t.Parallel()
	dir, good := oneMade(t)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	chance := rand.New(rand.NewPCG(seed, 2))
	path := filepath.Join(dir, "mintbatch.ledger")
	refused := 0
	for range 100 {
		broken := bytes.Clone(good)
		for range 1 + chance.IntN(200) {
			broken[100+chance.IntN(len(broken)-100)] ^= byte(1 << chance.IntN(8))
		}
		for _, beside := range []string{"-wal", "-shm"} {
			_ = os.Remove(path + beside)
		}
		require.NoError(t, os.WriteFile(path, broken, 0o600))
		c := exec.Command("mintbatch", "mint", "--yes", "bms-tide-01", "bms-tide-02")
		c.Dir = dir
		said, _ := c.CombinedOutput()
		if c.ProcessState.ExitCode() == 3 {
			refused++
			after, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(broken, after), "the damaged file was written to: %s", said)
			assert.Contains(t, string(said), "the ledger cannot be used")
		} else {
			assert.NotContains(t, string(said), "panic")
		}
		assert.LessOrEqual(t, len(sandboxMachines(dir)), 2, "no second clone: %s", said)
	}
	assert.Greater(t, refused, 50)
}

// On a disk that is full, or not to be written to, nothing is made; once there is
// room the same command goes on. That holds for a disk that fills up half-way.
func TestLedgerOnAFullDisk(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("a small disk is mounted by root")
	}
	dir, _ := oneMade(t)
	small := t.TempDir()
	mount := func(args ...string) {
		out, err := exec.Command("mount", append(args, small)...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	mount("-t", "tmpfs", "-o", "size=16m", "tmpfs")
	t.Cleanup(func() { _ = exec.Command("umount", "-l", small).Run() })
	out, err := command(t, dir, "sh", "-c", "cp mintbatch.ledger "+small+" && sed -i s,mintbatch.ledger,"+small+"/mintbatch.ledger, mintbatch.yaml")
	require.NoError(t, err, out)
	for _, leaves := range []string{"0", "300000"} {
		out, err := command(t, small, "sh", "-c", "head -c $(($(df -B1 --output=avail . | tail -n1) - "+leaves+")) /dev/zero >filler")
		require.NoError(t, err, out)
		before := len(sandboxMachines(dir))
		c := exec.Command("mintbatch", "mint", "--yes")
		c.Dir = dir
		said, _ := c.CombinedOutput()
		assert.Contains(t, []int{1, 3}, c.ProcessState.ExitCode(), string(said))
		assert.Contains(t, string(said), "its disk is full; free some space")
		if leaves == "0" {
			assert.Equal(t, 3, c.ProcessState.ExitCode())
			assert.Len(t, sandboxMachines(dir), before, "nothing was made")
		}
		require.NoError(t, os.Remove(filepath.Join(small, "filler")))
	}
	mount("-o", "remount,ro")
	before := len(sandboxMachines(dir))
	c := exec.Command("mintbatch", "mint", "--yes")
	c.Dir = dir
	said, _ := c.CombinedOutput()
	assert.Equal(t, 3, c.ProcessState.ExitCode(), string(said))
	assert.Regexp(t, "it cannot be (written to|opened for writing)", string(said))
	assert.Len(t, sandboxMachines(dir), before)
	mount("-o", "remount,rw")
	out, err = command(t, dir, "mintbatch", "mint", "--yes")
	require.NoError(t, err, out)
	assert.Len(t, sandboxMachines(dir), 24)
}
