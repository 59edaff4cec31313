//go:build unix

package cloudinit

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/machine"
)

// The stages are done by the script itself, in a folder that stands for the guest: over a
// restart, after a line of its log that was cut short, and up to the first that fails.
func TestStagesAreDoneInOrder(t *testing.T) {
	if _, err := exec.LookPath("python3"); err != nil {
		t.Skip("skipped: python3 is not installed")
	}
	dir := t.TempDir()
	put := func(path, content, _, _ string) {
		path = filepath.Join(dir, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		content = strings.NewReplacer("'/etc/", "'"+dir+"/etc/", "'/var/", "'"+dir+"/var/", "'/run/", "'"+dir+"/run/", "'/root'", "'"+dir+"'").Replace(content)
		require.NoError(t, os.WriteFile(path, []byte(content), 0o700))
	}
	stages([]machine.Stage{
		{Name: "one", Commands: []string{"echo 1 >> done; sleep 60 &", "echo started"}, Restart: machine.SwitchOn},
		{Name: "two", Commands: []string{"echo 2 >> done", "seq 30"}, As: machine.AsLogin},
		{Name: "three", Commands: []string{"echo it is not there", "false", "echo 3 >> done"}},
		{Name: "four", Commands: []string{"echo 4 >> done"}},
	}, "survey", put)
	put("run/cloud-init/result.json", "{}", "", "")
	put("bin/systemctl", "#!/bin/sh\necho \"$@\" >> "+dir+"/systemctl\n", "", "")
	put("bin/runuser", "#!/bin/sh\necho \"$1 $2\" > "+dir+"/who; cd "+dir+"; exec \"$4\" \"$5\" \"$6\"\n", "", "")
	log := filepath.Join(dir, "var/lib/mintbatch/stages.jsonl")
	boot := func() (states []string) {
		c := exec.Command("python3", filepath.Join(dir, "etc/mintbatch/stages/stages.py"))
		c.Env = append(os.Environ(), "PATH="+dir+"/bin:"+os.Getenv("PATH"))
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
		content, err := os.ReadFile(log)
		require.NoError(t, err)
		for line := range strings.Lines(string(content)) {
			var one struct {
				Name, State string
				Output      []string
			}
			if json.Unmarshal([]byte(line), &one) == nil {
				states = append(states, strings.TrimSpace(one.Name+" "+one.State+" "+strings.Join(one.Output, ",")))
			}
		}
		return states
	}
	read := func(path string) string {
		content, _ := os.ReadFile(filepath.Join(dir, path))
		return string(content)
	}
	assert.Equal(t, []string{"one begun", "one done started"}, boot())
	assert.Equal(t, "reboot\n", read("systemctl"))
	f, err := os.OpenFile(log, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString(`{"name": "tw`)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	assert.Equal(t, []string{"one begun", "one done started", "two begun", "two done 11,12,13,14,15,16,17,18,19,20,21,22,23,24,25,26,27,28,29,30", "three begun", "three failed it is not there"}, boot())
	assert.Equal(t, "1\n2\n", read("done"))
	assert.Equal(t, "-l survey\n", read("who"))
	assert.Equal(t, "reboot\ndisable -q mintbatch-stages.service\n", read("systemctl"))
	for _, gone := range []string{"etc/mintbatch", "etc/systemd/system/mintbatch-stages.service"} {
		assert.NoFileExists(t, filepath.Join(dir, gone))
		assert.NoDirExists(t, filepath.Join(dir, gone))
	}
}
