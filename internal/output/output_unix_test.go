//go:build unix

package output

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsNeverWrittenTo(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	for _, name := range []string{"key", "mine", "logs/run.jsonl"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(at(name)), 0o700))
		require.NoError(t, os.WriteFile(at(name), []byte("old"), 0o640))
	}
	require.NoError(t, syscall.Mkfifo(at("pipe"), 0o600))
	for link, target := range map[string]string{"to-key": "key", "to-mine": "mine", "to-nothing": "nothing", "to-logs": "logs"} {
		require.NoError(t, os.Symlink(target, at(link)))
	}
	require.NoError(t, os.Link(at("key"), at("hard")))
	g := Guard{Files: []string{at("key"), at("not-there-yet")}, Folders: []string{at("logs")}}
	for name, c := range map[string]struct {
		over Over
		why  string
	}{
		"key":             {Replace, "never replaced"},
		"hard":            {Replace, "never replaced"},
		"to-key":          {Replace, "never replaced"},
		"not-there-yet":   {Replace, "never replaced"},
		"mine":            {Never, "exists already; give --force"},
		"to-mine":         {Never, "exists already; give --force"},
		"to-nothing":      {Replace, "a broken link"},
		"pipe":            {Replace, "a device, pipe or socket"},
		"logs":            {Replace, "a folder"},
		"logs/run.jsonl":  {Replace, "logs of runs"},
		"logs/new":        {Never, "logs of runs"},
		"to-logs/new":     {Never, "logs of runs"},
		"nowhere/x":       {Never, "its folder cannot be used: no such file"},
		"mine/x":          {Never, "not a directory"},
		"/dev/null":       {Replace, "a device, pipe or socket"},
		"../to/elsewhere": {Never, "its folder cannot be used"},
	} {
		path := name
		if !filepath.IsAbs(name) {
			path = at(name)
		}
		err := g.Write(path, []byte("new"), c.over, 0o644)
		require.ErrorIs(t, err, ErrRefused, name)
		assert.ErrorContains(t, err, c.why, name)
		_, err = g.Create(path, c.over, 0o644)
		assert.ErrorContains(t, err, c.why, name)
	}
	for _, name := range []string{"key", "mine", "logs/run.jsonl"} {
		content, err := os.ReadFile(at(name))
		require.NoError(t, err)
		assert.Equal(t, "old", string(content), name)
	}
	beside, err := filepath.Glob(at(".mintbatch-*"))
	require.NoError(t, err)
	assert.Empty(t, beside)
}

func TestWhatIsReplacedKeepsItsMode(t *testing.T) {
	path := filepath.Join(t.TempDir(), "out")
	var g Guard
	require.NoError(t, g.Write(path, []byte("one"), Never, 0o644))
	require.NoError(t, os.Chmod(path, 0o620))
	require.NoError(t, os.Symlink("out", path+".link"))
	require.NoError(t, g.Write(path+".link", []byte("two"), Replace, 0o644))
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "two", string(content))
	info, err := os.Lstat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o620), info.Mode())
	if os.Getuid() == 0 {
		require.NoError(t, os.Chown(path, 65534, 65534))
		require.NoError(t, g.Write(path, []byte("three"), Replace, 0o644))
		info, err = os.Stat(path)
		require.NoError(t, err)
		assert.EqualValues(t, 65534, info.Sys().(*syscall.Stat_t).Uid)
	}
}
