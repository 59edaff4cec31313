//go:build linux

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Output that cannot be written is told, whatever else was to be told.
func TestFullOutput(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "rubbish.img", strings.Repeat("rubbish", 1000))
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer full.Close()
	for _, args := range [][]string{{"template", "inspect", filepath.Join(dir, "rubbish.img")}, {"check"}, {"--version"}} {
		var said strings.Builder
		c := exec.Command("mintbatch", args...)
		c.Dir, c.Stdout, c.Stderr = dir, full, &said
		err := c.Run()
		require.Error(t, err, args)
		assert.Equal(t, exitUnwritten, c.ProcessState.ExitCode(), args)
		assert.Contains(t, said.String(), "the output cannot be written: no space left on device")
	}
}

const exitUnwritten = 3
