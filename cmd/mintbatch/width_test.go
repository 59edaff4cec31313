//go:build !windows

package main

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/layout"
)

// onTerminal runs the program in a folder, on a terminal of a width.
func onTerminal(t *testing.T, dir string, width int, args ...string) string {
	t.Helper()
	c := exec.Command("mintbatch", args...)
	c.Dir = dir
	c.Env = append(c.Environ(), "PAGER=cat", "TERM=xterm")
	screen, err := pty.StartWithSize(c, &pty.Winsize{Rows: 200, Cols: uint16(width)})
	require.NoError(t, err)
	out, _ := io.ReadAll(screen) // which ends with an error once nobody holds the other side
	_ = c.Wait()
	return strings.ReplaceAll(string(out), "\r\n", "\n")
}

// No view has a line that is longer than its terminal, whatever the sheet says.
func TestNoLineIsTooLong(t *testing.T) {
	t.Parallel()
	dir, _ := served(t, 500)
	write(t, dir, "machines.csv", long)
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "mintbatch.yaml", string(setup)+"quotas: {of-everybody-who-has-machines: {each: owner, machines: 500}}\n")
	name := "bms-" + strings.Repeat("sonar", 11) + "-001"
	image, child := strings.Repeat("image-", 20)+".vhdx", strings.Repeat("child-", 20)+".vhdx"
	write(t, dir, "raw", strings.Repeat("mint", 1<<20))
	views := [][]string{
		{"check"}, {"proof"}, {"proof", "--each", "--wide"}, {"mint", "--yes"}, {"mint", "--yes", "--each"}, {"list"}, {"list", "--each", "--wide"}, {"list", "--group", "owner"},
		{"list", "--columns", "machine,identity,mac,notes"}, {"verify"}, {"verify", "--each"}, {"history"}, {"runs"}, {"runs", "show"}, {"show", name}, {"show", "--why", name},
		{"survey"}, {"template", "list"}, {"pool", "list"}, {"quota"}, {"pool", "show", "survey/nodes"}, {"secret", "list"}, {"ledger", "check"}, {"sweep", "--within", "100000"}, {"proof", "--sheet", "shrunk.csv"},
		{"disk", "convert", "raw", image, "--force"}, {"disk", "convert", "raw", child, "--force", "--parent", image}, {"disk", "show", child}, {"disk", "check", child}, {"export", "deb12-base", "--site", "quay", "--ova", image + ".ova", "--force"},
		{"mint", "--yes", "--sheet", "shrunk.csv"}, {"retire", "--yes", "--strays", "--sheet", "shrunk.csv"}, {"remake", "--yes", "bms-tide-01"}, {"accept", "bms-tide-01", "--yes"}, {"prof"}, {"check", "--sheet", "wrong.csv"}, {"list", "nobody-of-that-name"},
	}
	write(t, dir, "shrunk.csv", strings.Replace(long, "bms-tide-09,tide-gauge,deb12-base,survey,pool,,,,,tide desk,,,,,", "", 1))
	write(t, dir, "wrong.csv", strings.ReplaceAll(long, "198.51.100.6", "198.51.900.6")+"bms-tide-09,no-such-preset-anywhere,deb12-base,survey,pool,,,,,x,,,,,\n")
	for _, width := range []int{60, 80, 200} {
		for _, args := range views {
			for _, line := range strings.Split(onTerminal(t, dir, width, args...), "\n") {
				for _, drawn := range strings.Split(line, "\r") {
					assert.LessOrEqual(t, layout.Width(drawn), width, "%s: %q", args, drawn)
				}
			}
		}
		for _, of := range []string{"list", "proof"} {
			out := strings.Join(strings.Fields(onTerminal(t, dir, width, of, "--each", "--wide", "--no-color")), "")
			for _, value := range []string{name, "198.51.100.60", "2001:db8:b0a7:0:ffff:ffff:ffff:1", "198.51.100.61", "203.0.113.20", "海図室ångström", "tide desk", "bms-tide-02"} {
				assert.Contains(t, out, strings.ReplaceAll(value, " ", ""), "%s at %d", of, width)
			}
		}
	}
	assert.FileExists(t, filepath.Join(dir, "mintbatch.ledger"), fmt.Sprint(views))
	assert.FileExists(t, filepath.Join(dir, image+".ova"))

	folder := t.TempDir()
	write(t, folder, "mintbatch.yaml", fmt.Sprintf(folderSetup, "m"))
	write(t, folder, "m.csv", "machine\n"+name+"\n")
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "class", "templates"), 0o700))
	require.NoError(t, os.Mkdir(filepath.Join(folder, strings.Repeat("stick-", 20)), 0o700))
	require.NoError(t, os.Rename(filepath.Join(dir, image), filepath.Join(folder, "class", "templates", "deb12.vhdx")))
	for _, args := range [][]string{{"proof"}, {"mint", "--yes"}, {"list"}, {"verify"}, {"template", "list"}, {"handout", strings.Repeat("stick-", 20), name}} {
		for _, line := range strings.FieldsFunc(onTerminal(t, folder, 60, args...), func(r rune) bool { return r == '\n' || r == '\r' }) {
			assert.LessOrEqual(t, layout.Width(line), 60, "%s: %q", args, line)
		}
	}
	assert.FileExists(t, filepath.Join(folder, strings.Repeat("stick-", 20), "take-in.sh"))
}
