//go:build linux

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A colleague who may read setup, sheet and ledger, and has neither key nor token, can look at
// everything and change nothing.
func TestAColleagueMayRead(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can be somebody else")
	}
	t.Parallel()
	program, err := exec.LookPath("mintbatch")
	require.NoError(t, err)
	top, err := os.MkdirTemp("/tmp", "mintbatch-reader-test-") // where others get through
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(top) })
	require.NoError(t, os.Chmod(top, 0o755))
	binary, err := os.ReadFile(program)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(top, "mintbatch"), binary, 0o755))
	dir, _ := served(t, 1000)
	out, err := command(t, dir, "mintbatch", "mint", "--yes", "bms-tide-0[1-3]")
	require.NoError(t, err, out)
	for name, mode := range map[string]os.FileMode{"mintbatch.yaml": 0o644, "machines.csv": 0o644, "mintbatch.ledger": 0o644, "operator.key": 0o600} {
		content, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(top, name), content, mode))
		require.NoError(t, os.Chmod(filepath.Join(top, name), mode))
	}
	before, err := os.ReadFile(filepath.Join(top, "mintbatch.ledger"))
	require.NoError(t, err)
	as := func(args ...string) (string, error) {
		c := exec.Command(filepath.Join(top, "mintbatch"), args...)
		c.Dir, c.Env = top, []string{"HOME=" + top, "PATH=/usr/bin:/bin", "TMPDIR=/tmp"}
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		out, err := c.CombinedOutput()
		return string(out), err
	}
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"list", "--offline"}, "bms-tide-[01-03]"}, {[]string{"show", "--offline", "bms-tide-02"}, "bms-tide-02"}, {[]string{"history"}, "made"}, {[]string{"runs"}, "1 run"},
		{[]string{"find", "198.51.100.101"}, "bms-tide-01"}, {[]string{"pool", "list"}, "survey"}, {[]string{"ledger", "check"}, "no findings"}, {[]string{"check"}, "no findings"},
	} {
		out, err := as(c.args...)
		assert.NoError(t, err, "%v: %s", c.args, out)
		assert.Contains(t, out, c.says, "%v", c.args)
	}
	for _, args := range [][]string{{"pool", "hold", "198.51.100.150"}, {"retire", "--yes", "bms-tide-01"}, {"ledger", "prune"}} {
		out, err := as(args...)
		assert.Error(t, err, "%v: %s", args, out)
		assert.Contains(t, out, "you may read this ledger, and not write to it", "%v", args)
	}
	after, err := os.ReadFile(filepath.Join(top, "mintbatch.ledger"))
	require.NoError(t, err)
	assert.Equal(t, before, after)
	left, err := filepath.Glob("/tmp/mintbatch-reader-[0-9]*")
	require.NoError(t, err)
	assert.Empty(t, left)
	files, err := os.ReadDir(top)
	require.NoError(t, err)
	assert.Len(t, files, 5, "nothing is left beside the ledger")
}
