package mint_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the setup says of how much is under way at once is kept to exactly, as
// the site itself counts.
func TestLimits(t *testing.T) {
	w := servedAt(t, t.TempDir(), 40)
	defer w.stop()
	path := filepath.Join(w.dir, "mintbatch.yaml")
	setup, err := os.ReadFile(path)
	require.NoError(t, err)
	before, rest, _ := strings.Cut(string(setup), "    parallel: 4")
	_, after, _ := strings.Cut(rest, "\n")
	limited := strings.Replace(before+after, "\n  vessel:", `
    parallel: {machines: 20, full_clones: 5, starts: 4}
    parallel_per_host: {starts: 2}
    parallel_per_store: {full_clones: 3}
  vessel:`, 1)
	require.NoError(t, os.WriteFile(path, []byte(limited), 0o600))
	sheet := "machine,preset,site,store,host\n"
	for i := range 40 {
		sheet += fmt.Sprintf("bms-mix-%02d,%s,quay,%s,%s\n", i, []string{"spare", "node"}[i/10%2], []string{"quay-fast", "quay-bulk"}[i%2], []string{"quay-hv1", "quay-hv2"}[i/2%2])
	}
	for _, r := range w.mint(t, sheet).Results {
		require.NoError(t, r.Err)
	}
	for kind, most := range map[string]int{"copies": 5, "copies at quay-fast": 3, "copies at quay-bulk": 3, "starts": 4, "starts on quay-hv1": 2, "starts on quay-hv2": 2} {
		assert.LessOrEqual(t, w.most(kind), most, kind)
	}
	assert.Greater(t, w.most("copies"), 2, "what may be used is used")
}
