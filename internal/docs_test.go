package internal

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var code = regexp.MustCompile(`(?:Code: |\bbad\(|unreadable\()"([a-z0-9-]+)"`)

// Whatever code a finding has, a user can look it up.
func TestEveryFindingIsDocumented(t *testing.T) {
	page := func(name string) string {
		content, err := os.ReadFile("../docs/" + name)
		require.NoError(t, err)
		return string(content)
	}
	findings, templates := page("findings.md"), page("templates.md")
	codes := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		source, err := os.ReadFile(path)
		docs, where := findings, "docs/findings.md"
		if strings.HasPrefix(path, "core/inspect/") { // what is found on disks
			docs, where = templates, "docs/templates.md"
		}
		for _, m := range code.FindAllSubmatch(source, -1) {
			codes++
			name := "`" + string(m[1])
			if !strings.HasSuffix(name, "-") { // else the column's name follows
				name += "`"
			}
			assert.True(t, strings.Contains(docs, name), "%s in %s is not in %s", m[1], path, where)
		}
		return err
	}))
	assert.Greater(t, codes, 30)
}
