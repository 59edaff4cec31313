//go:build real

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Two guests of which the second, with UEFI firmware, waits for the first, and calls home over
// the network of the hypervisor. Both are brought back to checkpoints, and made independent of
// their templates.
func TestRealLifeOfMachines(t *testing.T) {
	dir, site := lab(t)
	did := func(args ...string) string {
		out, err := command(t, dir, os.Getenv("MINTBATCH_REAL_INSIDE"), append([]string{"mintbatch", "--setup", filepath.Join(dir, "mintbatch.yaml")}, args...)...)
		require.NoError(t, err, out)
		return out
	}
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "mintbatch.yaml", strings.Replace(string(setup), "\nfirstboot:", "\ncall_home: {listen: \"203.0.113.1:8700\"}\nfirstboot:\n  roles:\n    stages:\n"+
		"      - {name: one, commands: [\"echo one >> /root/stages\", \"cat /proc/sys/kernel/random/boot_id\"], restart: on}\n"+
		"      - {name: two, commands: [\"echo two >> /root/stages\"], restart: on}\n      - {name: three, commands: [\"echo three >> /root/stages\"]}", 1))
	sheet := "machine,preset,address,after,checkpoint,confirm,power,firstboot,clone\n" +
		"bms-app-01,chart-node,,bms-dns-01,ready@confirmed,call-home,confirm-then-off,,linked\nbms-dns-01,sonar-node,198.51.100.11,,ready@confirmed,,,ready roles,linked\n"
	write(t, dir, "machines.csv", sheet)
	did("mint", "--yes", "--events", filepath.Join(dir, "events.jsonl"))
	log, err := os.ReadFile(filepath.Join(dir, "events.jsonl"))
	require.NoError(t, err)
	lines := strings.Split(string(log), "\n")
	at := func(name, step, state string) int {
		i := slices.IndexFunc(lines, func(line string) bool {
			return strings.Contains(line, `"name":"`+name+`"`) && strings.Contains(line, `"step":"`+step+`"`) && strings.Contains(line, `"state":"`+state+`"`)
		})
		require.GreaterOrEqual(t, i, 0, "%s %s %s", name, step, state)
		return i
	}
	assert.Less(t, at("bms-app-01", "clone", "begun"), at("bms-dns-01", "confirm", "done"), "it is cloned meanwhile")
	assert.Less(t, at("bms-dns-01", "confirm", "done"), at("bms-app-01", "start", "begun"))
	assert.Equal(t, "one\ntwo\nthree", inside(t, "bms-dns-01", "cat /root/stages"))
	assert.Empty(t, inside(t, "bms-dns-01", "ls -dA /etc/mintbatch /etc/systemd/system/mintbatch* 2>/dev/null"), "they remove themselves")
	for _, stage := range []string{"one: done after", "two: done after", "three: done after"} {
		assert.Contains(t, did("history", "bms-dns-01"), stage)
	}
	assert.Regexp(t, `(?m)^bms-app-01 .* ready .* off\nbms-dns-01 .* ready .* running$`, did("checkpoint", "list"))
	assert.Contains(t, minted(t, dir), "Nothing to do")

	boot := inside(t, "bms-dns-01", "cat /proc/sys/kernel/random/boot_id")
	inside(t, "bms-dns-01", "echo spoiled > /etc/spoiled; rm /etc/hostname; sync")
	out := did("checkpoint", "restore", "--yes", "--name", "ready", "bms-*")
	assert.Equal(t, "bms-dns-01", inside(t, "bms-dns-01", "cat /etc/spoiled; cat /etc/hostname"), out)
	assert.Equal(t, boot, inside(t, "bms-dns-01", "cat /proc/sys/kernel/random/boot_id"), "it goes on where it was")
	assert.Regexp(t, "firmware='efi'|pflash", virsh(t, "dumpxml", "--inactive", "bms-app-01"))
	assert.Contains(t, minted(t, dir), "Nothing to do")
	did("verify")

	write(t, dir, "machines.csv", strings.ReplaceAll(sheet, "linked\n", "full\n"))
	refused, err := command(t, dir, "mintbatch", "mint", "--yes")
	assert.Error(t, err)
	assert.Contains(t, refused, "its checkpoints need the template's disk: drop them first (ready)")
	did("checkpoint", "drop", "--yes", "--name", "ready", "bms-*")
	assert.Contains(t, minted(t, dir), "adjust 2 done")
	for _, name := range []string{"bms-app-01", "bms-dns-01"} {
		files, _ := filepath.Glob(filepath.Join(site, "pool", name+".*.qcow2"))
		require.Len(t, files, 1, "%v", files)
		chain, err := exec.Command("qemu-img", "info", "--force-share", "--backing-chain", files[0]).Output()
		require.NoError(t, err)
		assert.NotContains(t, string(chain), "backing file", name)
	}
	assert.Contains(t, minted(t, dir), "Nothing to do")
	for _, disk := range []string{"deb12-disk.qcow2", "deb12-base.qcow2"} { // as if the templates were made anew
		if path := filepath.Join(site, "templates", disk); assert.NoError(t, exec.Command("truncate", "-s", "0", path).Run()) {
			_ = os.Chmod(path, 0o600)
		}
	}
	assert.Equal(t, "whole", inside(t, "bms-dns-01", "echo 3 > /proc/sys/vm/drop_caches; find /usr /boot /var/lib/dpkg -type f -exec cat {} + > /dev/null && echo whole"), "it reads all of its disk")
	did("power", "off", "--yes", "bms-dns-01")
	assert.Equal(t, "shut off", virsh(t, "domstate", "bms-dns-01"))
	did("retire", "--yes", "bms-*")
}
