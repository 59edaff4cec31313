package seal

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/inspect"
)

// Of every left-over it is said whether it is cleaned, or why it is not.
func TestEveryLeftoverIsDecided(t *testing.T) {
	for _, c := range inspect.Checks {
		if !strings.HasPrefix(c.Code, "left-") || slices.Contains(onWindows, c.Code) {
			continue
		}
		_, cleans := how[c.Code]
		assert.NotEqual(t, cleans, stays[c.Code] != "", c.Code)
	}
}

func TestPlan(t *testing.T) {
	i := &inspect.Inspection{Leftovers: []inspect.Leftover{
		{Severity: finding.Error, Code: "left-machine-id", Where: []string{"/etc/machine-id"}, Count: 1},
		{Severity: finding.Error, Code: "left-domain-member"},
		{Severity: finding.Error, Code: "no-nocloud", Remedy: "add NoCloud"},
		{Severity: finding.Note, Code: "left-logs", Where: []string{"/var/log/a"}, Count: 7},
		{Severity: finding.Note, Code: "left-mail"},
	}}
	assert.Equal(t, []Act{
		{Code: "left-machine-id", Cleaned: true, Where: "/etc/machine-id"},
		{Code: "left-domain-member", Why: stays["left-domain-member"], Blocks: true},
		{Code: "no-nocloud", Why: "to be mended by hand: add NoCloud", Blocks: true},
		{Code: "left-logs", Why: "it is to be kept", Where: "/var/log/a and 6 more"},
		{Code: "left-mail", Cleaned: true},
	}, Plan(i, []string{"logs"}))
}

// The script is one that shells read, whatever is to be kept and whoever is to be locked.
func TestScript(t *testing.T) {
	for _, o := range []Order{{}, {Keep: []string{"logs", "mail"}}, {Hook: []byte("#!/bin/sh\necho 'it''s'\n"), Lock: []string{"tide.gauge", "x; reboot", "$(reboot)"}}} {
		script := Script(o)
		for _, shell := range []string{"sh", "bash"} {
			c := exec.Command(shell, "-n")
			c.Stdin = strings.NewReader(script)
			out, err := c.CombinedOutput()
			require.NoError(t, err, "%s\n%s", out, script)
		}
		assert.Equal(t, len(o.Keep) == 0, strings.Contains(script, "/var/mail/*"))
		assert.NotContains(t, script, "reboot")
		assert.Less(t, strings.Index(script, "hook"), strings.Index(script, "kill -STOP")+len(script)*len(o.Hook), "the hook comes first")
	}
	assert.Contains(t, Script(Order{Lock: []string{"tide.gauge"}}), `s/^tide\.gauge:`)
}

// What is wiped is written over in its own blocks before it is deleted, and nothing else is touched: neither what a link points
// to, nor a file that has another name, too.
func TestWords(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	for name, content := range map[string]string{"log": "PLANTED-LOG", "shadow": "a:x:\nb::\nc:x:\n", "target": "kept", "twice": "kept", "below/a b/deep": "PLANTED-DEEP", "other": "kept"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(at(name)), 0o700))
		require.NoError(t, os.WriteFile(at(name), []byte(content), 0o640))
	}
	require.NoError(t, os.Symlink(at("target"), at("link")))
	require.NoError(t, os.Link(at("twice"), at("name")))
	script := strings.ReplaceAll(words, "/run/", dir+"/") + `cd "$1"
wipe none* link name
folders below none/*
edit shadow 's/^\([^:]*\)::/\1:!:/'
zero log
mkdir gone && echo x >gone/file && blank gone/file && folders gone
printf '%s\n' "$(head -c 3 log | od -An -c)" >seen
blank log
` + finish
	out, err := exec.Command("sh", "-ec", "set +e\n"+script, "sh", dir).CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, gone := range []string{"link", "name", "below", "gone"} {
		_, err := os.Lstat(at(gone))
		assert.ErrorIs(t, err, os.ErrNotExist, gone)
	}
	for name, want := range map[string]string{"target": "kept", "twice": "kept", "other": "kept", "log": "", "shadow": "a:x:\nb:!:\nc:x:\n"} {
		has, err := os.ReadFile(at(name))
		require.NoError(t, err)
		assert.Equal(t, want, string(has), name)
	}
	seen, err := os.ReadFile(at("seen"))
	require.NoError(t, err)
	assert.Contains(t, string(seen), `\0  \0  \0`, "it was written over before it was emptied")
	left, err := filepath.Glob(at("mintbatch-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
