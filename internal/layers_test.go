package internal

import (
	"encoding/json"
	"io"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// house lists the layers from the top down; an arrow (an import) may only run
// down. docs/architecture.md says what each is for.
var house = []string{"cmd", "internal/cli", "internal/request", "internal/handout", "internal/template", "internal/handover", "internal/mint", "internal/pools", "internal/plan", "internal/sites", "internal/around", "internal/runlog", "internal/vault",
	"internal/input", "internal/mailbox", "internal/callhome", "internal/run", "internal/ledger", "internal/site/gateway", "internal/site/libvirt", "internal/site/folder", "internal/site", "internal/enrol", "internal/announce", "internal/library", "internal/pinned", "internal/sandbox", "internal/output", "internal/report", "internal/layout", "internal/probe", "internal/fastdir", "internal/ova", "internal/diskfile", "internal/core"}

// outside is what no package of the core may import: files, networks, clocks
// and terminals come in as values.
var outside = []string{"os", "os/exec", "net/http", "database/sql", "log", "log/slog", "path/filepath", "github.com/urfave/cli/v3"}

func layer(path string) int {
	path = strings.TrimPrefix(path, "mintbatch/")
	return slices.IndexFunc(house, func(name string) bool { return path == name || strings.HasPrefix(path, name+"/") })
}

func TestArrowsOnlyRunDown(t *testing.T) {
	list := exec.Command("go", "list", "-json=ImportPath,Imports", "mintbatch/...")
	out, err := list.Output()
	require.NoError(t, err)
	packages := 0
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := d.Decode(&p); err == io.EOF {
			break
		} else {
			require.NoError(t, err)
		}
		if p.ImportPath == "mintbatch/internal" || strings.HasPrefix(p.ImportPath, "mintbatch/bench") {
			continue
		}
		packages++
		from := layer(p.ImportPath)
		require.GreaterOrEqual(t, from, 0, "%s is in no layer of the house", p.ImportPath)
		for _, i := range p.Imports {
			if strings.HasPrefix(i, "mintbatch/") {
				assert.LessOrEqual(t, from, layer(i), "%s imports %s, which is above it", p.ImportPath, i)
			}
			if house[from] == "internal/core" {
				assert.NotContains(t, outside, i, "%s", p.ImportPath)
			}
		}
	}
	assert.Greater(t, packages, 10)
}
