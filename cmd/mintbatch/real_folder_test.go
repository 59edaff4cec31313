//go:build real

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Machines of folders of every format that the emulator reads are handed out, taken in by the script and started, and are what their
// rows say; one that was exported as a package becomes a template, of which a machine is made.
func TestRealFolders(t *testing.T) {
	dir, site := lab(t)
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	more, sheet := "mintbatch: 1\ntemplates: {base: {guest: linux, hardware: {emulator: qemu, machine_type: q35, cpu: maximum}}, packed: {guest: linux}}\nsites:\n", "machine,site,clone,template,network,address,power,memory,store\n"
	formats := []string{"qcow2", "vmdk", "vhd", "raw"}
	stick := filepath.Join(filepath.Dir(site), "stick")
	require.NoError(t, os.Mkdir(stick, 0o755))
	for _, format := range append(formats, "vhdx") { // which libvirt does not have
		more += fmt.Sprintf("  f-%[1]s: {kind: folder, path: f-%[1]s, format: %[1]s, describe: [%[2]s]}\n", format, map[bool]string{false: "libvirt", true: "ovf"}[format == "vhdx"])
		clone := "full"
		if format == "qcow2" || format == "vmdk" {
			clone = "linked"
		}
		sheet += fmt.Sprintf("bms-%[1]s,f-%[1]s,%[2]s,base,survey,pool,off,640MiB,folder\n", format, clone)
		at := filepath.Join(dir, "f-"+format, "templates")
		require.NoError(t, os.MkdirAll(at, 0o755))
		said, err := command(t, dir, "mintbatch", "disk", "convert", filepath.Join(site, "templates", "deb12-disk.qcow2"), filepath.Join(at, "base."+format))
		require.NoError(t, err, said)
	}
	write(t, dir, "mintbatch.yaml", string(setup))
	write(t, dir, "more.yaml", more)
	write(t, dir, "machines.csv", sheet)
	run := func(args ...string) string {
		t.Helper()
		said, err := command(t, dir, "mintbatch", append(args, "--setup", "mintbatch.yaml", "--setup", "more.yaml")...)
		require.NoError(t, err, said)
		return said
	}
	run("mint", "--yes")
	run("export", "bms-qcow2", "--ova", "x.ova")
	run("handout", stick)
	take, err := exec.Command("sh", filepath.Join(stick, "take-in.sh")).CombinedOutput()
	require.NoError(t, err, string(take))
	open := exec.Command("chmod", "-R", "a+rwX", stick) // the emulator's user is another one
	require.NoError(t, open.Run())
	for _, format := range formats {
		virsh(t, "start", "bms-"+format)
	}
	vhdx := filepath.Join(dir, "f-vhdx", "bms-vhdx", "bms-vhdx")
	console := filepath.Join(dir, "console")
	emulator := exec.Command("qemu-system-x86_64", "-machine", "q35", "-cpu", "max", "-m", "640", "-display", "none", "-serial", "file:"+console, "-nic", "none",
		"-drive", "file="+vhdx+".vhdx,format=vhdx,if=virtio", "-drive", "file="+vhdx+"-seed.iso,format=raw,media=cdrom,readonly=on")
	require.NoError(t, emulator.Start())
	defer emulator.Process.Kill() //nolint:errcheck // it has ended by then, or does not matter
	for i, format := range formats {
		require.Eventually(t, func() bool {
			return exec.Command("virsh", "-q", "-c", "qemu:///system", "qemu-agent-command", "bms-"+format, `{"execute":"guest-ping"}`).Run() == nil
		}, 12*time.Minute, 2*time.Second, format) // five boot at the same time, on what may be two slow cores
		assert.Equal(t, "bms-"+format, inside(t, "bms-"+format, "cloud-init status --wait >/dev/null; hostname"), format)
		assert.Contains(t, inside(t, "bms-"+format, "ip -br -4 address"), fmt.Sprintf("198.51.100.%d/24", 100+i), format)
		virsh(t, "destroy", "bms-"+format)
		virsh(t, "undefine", "bms-"+format)
	}
	assert.Eventually(t, func() bool {
		said, _ := os.ReadFile(console)
		return strings.Contains(string(said), "bms-vhdx login:")
	}, 8*time.Minute, time.Second)
	_ = emulator.Process.Kill()
	run("template", "make", "packed", "--ova", "x.ova", "--site", "quay", "--store", "templates", "--hardware", "sonar-node", "--yes", "--as-is")
	write(t, dir, "machines.csv", sheet+"bms-packed,quay,linked,packed,survey,pool,on,640MiB,pool\n")
	run("mint", "--yes", "bms-packed")
	assert.Equal(t, "bms-packed", inside(t, "bms-packed", "hostname"))
}
