package ledger

import (
	"os"
	"path/filepath"
	"testing"

	"mintbatch/internal/ledger/servertest"
)

func TestMain(m *testing.M) { os.Exit(servertest.Run(m)) }

// everywhere runs a test on a file, and on a database of its own at a server.
func everywhere(t *testing.T, test func(t *testing.T, name string)) {
	t.Run("file", func(t *testing.T) { test(t, filepath.Join(t.TempDir(), "l")) })
	t.Run("shared", func(t *testing.T) { test(t, servertest.Database(t)) })
}
