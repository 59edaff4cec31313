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
	docs, err := os.ReadFile("../docs/findings.md")
	require.NoError(t, err)
	codes := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		source, err := os.ReadFile(path)
		for _, m := range code.FindAllSubmatch(source, -1) {
			codes++
			name := "`" + string(m[1])
			if !strings.HasSuffix(name, "-") { // else the column's name follows
				name += "`"
			}
			assert.True(t, strings.Contains(string(docs), name), "%s in %s is not in docs/findings.md", m[1], path)
		}
		return err
	}))
	assert.Greater(t, codes, 30)
}
