//go:build real

package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Two guests of which the second, with UEFI firmware, waits for the first; both are brought
// back to checkpoints, of a guest that runs, of one that was shut down, and from before its
// first start.
func TestRealOrderAndCheckpoints(t *testing.T) {
	dir, _ := lab(t)
	write(t, dir, "machines.csv", "machine,preset,address,after,checkpoint\n"+
		"bms-app-01,chart-node,,bms-dns-01,ready@confirmed\nbms-dns-01,sonar-node,198.51.100.11,,fresh ready@confirmed\n")
	minted(t, dir, "--events", filepath.Join(dir, "events.jsonl"))
	log, err := os.ReadFile(filepath.Join(dir, "events.jsonl"))
	require.NoError(t, err)
	at := func(parts ...string) int {
		for i, line := range strings.Split(string(log), "\n") {
			if !strings.Contains(line, `"name":"`+parts[0]+`"`) || !strings.Contains(line, `"step":"`+parts[1]+`"`) || !strings.Contains(line, `"state":"`+parts[2]+`"`) {
				continue
			}
			return i
		}
		t.Fatalf("the log has no %v", parts)
		return 0
	}
	assert.Less(t, at("bms-app-01", "clone", "begun"), at("bms-dns-01", "confirm", "done"), "it is cloned meanwhile")
	assert.Less(t, at("bms-dns-01", "confirm", "done"), at("bms-app-01", "start", "begun"))
	listed, err := command(t, dir, "mintbatch", "checkpoint", "list")
	require.NoError(t, err, listed)
	assert.Regexp(t, `(?m)^bms-app-01 .* ready .* off\n(?s:.*)^bms-dns-01 .* fresh .* off\nbms-dns-01 .* ready .* running$`, listed)
	assert.Contains(t, minted(t, dir), "Nothing to do")

	boot := inside(t, "bms-dns-01", "cat /proc/sys/kernel/random/boot_id")
	for _, name := range []string{"bms-app-01", "bms-dns-01"} {
		inside(t, name, "echo spoiled > /etc/spoiled; rm /etc/hostname; sync")
	}
	out, err := command(t, dir, "mintbatch", "checkpoint", "restore", "--yes", "--name", "ready", "bms-*")
	require.NoError(t, err, out)
	for _, name := range []string{"bms-app-01", "bms-dns-01"} {
		assert.Equal(t, name, inside(t, name, "cat /etc/spoiled; cat /etc/hostname"), out)
	}
	assert.Equal(t, boot, inside(t, "bms-dns-01", "cat /proc/sys/kernel/random/boot_id"), "it goes on where it was")
	assert.Contains(t, minted(t, dir), "Nothing to do")
	verdict, err := command(t, dir, "mintbatch", "verify")
	require.NoError(t, err, verdict)

	out, err = command(t, dir, "mintbatch", "power", "off", "--yes", "bms-app-01")
	require.NoError(t, err, out)
	assert.Equal(t, "shut off", virsh(t, "domstate", "bms-app-01"))
	assert.Contains(t, minted(t, dir), "1 machine left off on purpose")
	out, err = command(t, dir, "mintbatch", "checkpoint", "restore", "--yes", "--name", "fresh", "bms-dns-01")
	require.NoError(t, err, out)
	assert.NotEqual(t, boot, inside(t, "bms-dns-01", "cat /proc/sys/kernel/random/boot_id"))
	verdict, err = command(t, dir, "mintbatch", "verify", "bms-dns-01")
	require.NoError(t, err, verdict)
	out, err = command(t, dir, "mintbatch", "checkpoint", "drop", "--yes", "--name", "ready", "bms-*")
	require.NoError(t, err, out)
	assert.Empty(t, virsh(t, "snapshot-list", "--name", "bms-app-01"))
	out, err = command(t, dir, "mintbatch", "retire", "--yes", "bms-*")
	require.NoError(t, err, out)
}
