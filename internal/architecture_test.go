package internal

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	quoted = regexp.MustCompile("(?m)^`([a-z0-9/_.]+)`\n\n```go\n((?s:.*?))\n```$")
	room   = regexp.MustCompile(`(?m)^    ((?:cmd|internal|core)[a-z0-9/]*)  +\S`)
	named  = regexp.MustCompile("`([a-z0-9_/]+/[a-z0-9_]+\\.(?:go|txtar|md|yaml|sh))`")
)

// What docs/architecture.md says of the code is so: its examples are quoted to the
// letter, its layers are those that are enforced, and the files that it names exist.
func TestArchitecture(t *testing.T) {
	content, err := os.ReadFile("../docs/architecture.md")
	require.NoError(t, err)
	text := string(content)

	oneLine := func(s string) string { return strings.Join(strings.Fields(s), " ") }
	examples := quoted.FindAllStringSubmatch(text, -1)
	for _, m := range examples {
		source, err := os.ReadFile(filepath.Join("..", m[1]))
		if assert.NoError(t, err) {
			assert.True(t, strings.Contains(oneLine(string(source)), oneLine(m[2])), "%s no longer has\n%s", m[1], m[2])
		}
	}
	assert.Len(t, examples, strings.Count(text, "```go"), "each example says which file it is of")
	for _, what := range []string{"kind of site", "kind of answers", "column", "step", "command"} {
		_, section, _ := strings.Cut(text, "### A "+what+"\n")
		section, _, _ = strings.Cut(section, "\n#")
		assert.Contains(t, section, "```go", "an example of how to add a %s", what)
	}

	var layers, core []string
	for _, m := range room.FindAllStringSubmatch(text, -1) {
		if name, ok := strings.CutPrefix(m[1], "core/"); ok {
			core = append(core, name)
		} else {
			layers = append(layers, strings.TrimSuffix(m[1], "/mintbatch"))
		}
	}
	assert.Equal(t, house, layers)
	var folders []string
	entries, err := os.ReadDir("core")
	require.NoError(t, err)
	for _, e := range entries {
		folders = append(folders, e.Name())
	}
	assert.ElementsMatch(t, folders, core)

	for _, m := range named.FindAllStringSubmatch(text, -1) {
		found := false
		for _, root := range []string{"..", ".", "core", "site"} {
			_, err := os.Stat(filepath.Join(root, m[1]))
			found = found || err == nil
		}
		assert.True(t, found, "there is no file %s", m[1])
	}
}
