package main

import (
	"mintbatch/internal/handover"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func status(t *testing.T, dir string, args ...string) int {
	t.Helper()
	c := exec.Command("mintbatch", args...)
	c.Dir = dir
	_ = c.Run()
	return c.ProcessState.ExitCode()
}

func TestExitStatus(t *testing.T) {
	t.Parallel()
	dir, _ := served(t, 200)
	broken := filepath.Join(t.TempDir(), "broken.csv")
	require.NoError(t, os.WriteFile(broken, []byte("machine\na_b\n"), 0o600))
	assert.Equal(t, 0, status(t, dir, "check"))
	assert.Equal(t, 2, status(t, dir, "check", "--sheet", broken))
	assert.Equal(t, 2, status(t, dir, "mint", "--yes", "--sheet", broken))
	assert.Equal(t, 2, status(t, dir, "mint"), "no terminal")
	assert.Equal(t, 2, status(t, dir, "nonsense"))
	assert.Equal(t, 0, status(t, dir, "mint", "--yes", "bms-tide-01"))
	unreachable := t.TempDir()
	require.NoError(t, handover.WriteDemo(unreachable, handover.Demo{URL: "https://127.0.0.1:1", Fingerprint: "sha256:" + strings.Repeat("1", 64), DNS: "127.0.0.1:9"}))
	require.NoError(t, os.Mkdir(filepath.Join(unreachable, "sandbox"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(unreachable, "sandbox", "token"), []byte("t"), 0o600))
	assert.Equal(t, 3, status(t, unreachable, "proof"))
}

// Ctrl-C brings acts under way to their end, says how to go on, and the same
// command does go on.
func TestInterrupted(t *testing.T) {
	t.Parallel()
	dir, _ := served(t, 10)
	c := exec.Command("mintbatch", "mint", "--yes")
	c.Dir = dir
	var said writer
	c.Stdout, c.Stderr = &said, &said
	require.NoError(t, c.Start())
	require.Eventually(t, func() bool { return len(sandboxMachines(dir)) > 2 }, 10*time.Second, 5*time.Millisecond)
	require.NoError(t, c.Process.Signal(syscall.SIGINT))
	_ = c.Wait()
	assert.Equal(t, 130, c.ProcessState.ExitCode())
	assert.Contains(t, said.String(), "Press Ctrl-C again to stop at once")
	assert.Contains(t, said.String(), "Run the same command again to continue")
	out, err := command(t, dir, "mintbatch", "mint", "--yes")
	require.NoError(t, err, out)
	assert.NotContains(t, out, "Stopping")
	assert.Len(t, sandboxMachines(dir), 24)
}

// A second run waits for the first, says for whom, and then finds its work done.
func TestTwoRunsAtOnce(t *testing.T) {
	t.Parallel()
	dir, _ := served(t, 20)
	var first, second writer
	start := func(w *writer) *exec.Cmd {
		c := exec.Command("mintbatch", "mint", "--yes")
		c.Dir, c.Stdout, c.Stderr = dir, w, w
		require.NoError(t, c.Start())
		return c
	}
	a := start(&first)
	require.Eventually(t, func() bool { return len(sandboxMachines(dir)) > 0 }, 10*time.Second, 5*time.Millisecond)
	b := start(&second)
	require.NoError(t, a.Wait(), first.String())
	require.NoError(t, b.Wait(), second.String())
	assert.Regexp(t, `waiting: run [0-9a-f-]+ \(mint by .* on .*\) is using the ledger`, second.String())
	assert.Contains(t, second.String(), "Nothing to do")
	assert.Len(t, sandboxMachines(dir), 24)
}
