//go:build real

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A guest gets another name, is cloned as it was at a checkpoint, and gets another system
// around the data disk that it has.
func TestRealNamesAndData(t *testing.T) {
	dir, site := lab(t)
	did := func(args ...string) string {
		out, err := command(t, dir, "mintbatch", args...)
		require.NoError(t, err, out)
		return out
	}
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	text := strings.Replace(string(setup), "\nfirstboot:", "\nfirstboot:\n  tides: {carry: [tiles.dat], commands: [\"cp /run/mintbatch/carry/tiles.dat /root/tiles.dat\"], volumes: [{disk: 1, label: tides, mount: /srv/tides}]}", 1)
	text = strings.Replace(text, "\n  deb12-own:", "\n  signed:\n    guest: linux\n    volume: templates/deb12-disk.qcow2\n    hardware: {emulator: qemu, machine_type: q35, cpu: maximum, secure_boot: on, clock: localtime}\n  deb12-own:", 1)
	sheet := "machine,preset,template,clone,disk,address,disks,firstboot,checkpoint,media,power\nbms-tide-01,sonar-node,,,,198.51.100.11,1GiB,ready tides,ready@confirmed,pool/drivers.iso,\nbms-signed,sonar-node,signed,full,3G::full,dhcp,,,,,off\n"
	write(t, dir, "machines.csv", sheet)
	write(t, filepath.Join(site, "pool"), "drivers.iso", strings.Repeat("drivers", 10000))
	write(t, dir, "tiles.dat", strings.Repeat("tiles ", 1<<20))
	withTPM := strings.Replace(text, "clock: localtime", "clock: localtime, tpm: on", 1)
	write(t, dir, "mintbatch.yaml", withTPM)
	if _, err := exec.LookPath("swtpm_setup"); err != nil {
		out, err := command(t, dir, "mintbatch", "proof")
		assert.Error(t, err)
		assert.Regexp(t, `row 3, column 3 \(template\)(.|\n)*bms-signed does not fit at site .*: host .* has no TPM`, out)
		write(t, dir, "mintbatch.yaml", text)
	}
	minted(t, dir)

	of := virsh(t, "dumpxml", "bms-signed")
	assert.Contains(t, of, "secure='yes'")
	assert.Contains(t, of, "offset='localtime'")
	disk, err := os.Stat(diskOf(t, site, "bms-signed"))
	require.NoError(t, err)
	assert.GreaterOrEqual(t, disk.Sys().(*syscall.Stat_t).Blocks*512, int64(3<<30), "it takes its room at once")
	virsh(t, "start", "bms-signed")
	did("power", "off", "--yes", "--force-off", "bms-signed")
	assert.Contains(t, virsh(t, "dumpxml", "bms-tide-01"), "ua-mintbatch-media")
	assert.NotContains(t, virsh(t, "domblklist", "bms-tide-01"), "drivers.iso")
	inside(t, "bms-tide-01", "echo north > /srv/tides/leg; echo x > /root/gone; sync")
	assert.Equal(t, "6291456", inside(t, "bms-tide-01", "stat -c %s /root/tiles.dat"))
	assert.NotContains(t, there(t, site), ".carry")
	uuid := virsh(t, "domuuid", "bms-tide-01")

	assert.Contains(t, did("rename", "--yes", "bms-tide-01", "bms-gauge"), "The sheet still has bms-tide-01")
	write(t, dir, "machines.csv", strings.ReplaceAll(sheet, "bms-tide-01", "bms-gauge"))
	assert.Equal(t, uuid, virsh(t, "domuuid", "bms-gauge"))
	assert.Contains(t, minted(t, dir), "No changes were made")
	did("verify")
	assert.Equal(t, "bms-gauge", inside(t, "bms-gauge", "hostname"))
	assert.Contains(t, did("checkpoint", "list"), "ready")

	renamed := strings.ReplaceAll(sheet, "bms-tide-01", "bms-gauge")
	write(t, dir, "machines.csv", renamed+"bms-copy,sonar-node,machine:bms-gauge@ready,full,,198.51.100.12,1GiB,ready tides,,,\n")
	assert.Contains(t, minted(t, dir), "bms-gauge was in use and is not sealed")
	assert.Equal(t, "bms-copy", inside(t, "bms-copy", "hostname; cat /root/gone /srv/tides/leg 2>/dev/null"), "it is as it was at the checkpoint")
	assert.Equal(t, 1, strings.Count(virsh(t, "dumpxml", "bms-copy"), "<serial>"), "its data disk is that of the source")
	did("verify")
	assert.NotRegexp(t, `bms-(copy|gauge)\S*\.seed`, there(t, site), "it has read its own, where that of its source was dropped")
	did("retire", "--yes", "bms-copy")
	write(t, dir, "machines.csv", renamed)

	did("remake", "--yes", "--keep-data", "bms-gauge")
	assert.NotEqual(t, uuid, virsh(t, "domuuid", "bms-gauge"))
	assert.Equal(t, "north", inside(t, "bms-gauge", "cat /srv/tides/leg; cat /root/gone 2>/dev/null"))
	did("verify")
	assert.Contains(t, minted(t, dir), "No changes were made")
	did("retire", "--yes", "bms-*")
	left, err := filepath.Glob(filepath.Join(site, "pool", "bms-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.FileExists(t, filepath.Join(site, "pool", "drivers.iso"))
}

// diskOf is the file of a machine's system disk.
func diskOf(t *testing.T, site, name string) string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(site, "pool", name+".*.disk.*"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	return files[0]
}
