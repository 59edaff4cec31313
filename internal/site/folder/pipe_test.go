//go:build unix

package folder

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/machine"
)

// Pipes, to which nobody writes, are not waited for, wherever somebody has put them.
func TestPipes(t *testing.T) {
	s := open(t, "vhdx")
	for _, act := range life(s, machine.Linked)[:6] {
		task, err := act(t.Context())
		require.NoError(t, settled(t, s, task, err))
	}
	dir := filepath.Join(s.Path, "room 4", "bms-desk-1")
	for _, path := range []string{filepath.Join(s.Path, "templates", "pipe.vhdx"), filepath.Join(s.Path, "theirs", "x.vhdx"), filepath.Join(dir, "bms-desk-1.vhdx"), filepath.Join(dir, "bms-desk-1.ovf"), filepath.Join(dir, markName)} {
		_ = os.Remove(path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, syscall.Mkfifo(path, 0o600))
		_, err := s.Survey(t.Context())
		assert.NoError(t, err, path)
		_, _ = s.Faults(t.Context(), id)
	}
}
