//go:build real

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Disks of a real hypervisor are read in parts, over its own connection: that of a template
// machine, a volume, one that depends on another; and as guests' own tools see them.
func TestRealInspect(t *testing.T) {
	dir, site := lab(t)
	read := func(what string) string {
		out, err := command(t, dir, "mintbatch", "template", "inspect", what)
		require.NoError(t, err, out)
		assert.Regexp(t, `(?m)^system +Debian GNU/Linux 12 \(bookworm\), x86_64$`, out)
		assert.Regexp(t, `(?m)^cloud-init +22\.4\.2`, out)
		size := regexp.MustCompile(`read ([0-9.]+)(KiB|MiB) of the disk`).FindStringSubmatch(out)
		require.NotNil(t, size, out)
		if size[2] == "MiB" {
			assert.Less(t, len(strings.Split(size[1], ".")[0]), 3, "less than 100 MiB: %s", out)
		}
		return out
	}
	read("deb12-base")
	disk := filepath.Join(site, "templates", "deb12-disk.qcow2")
	assert.Equal(t, strings.Split(read("templates/deb12-disk.qcow2"), "\n\n")[1:], strings.Split(read(disk), "\n\n")[1:], "the same as in its file")

	child := filepath.Join(site, "templates", "child.qcow2")
	out, err := exec.Command("qemu-img", "create", "-q", "-f", "qcow2", "-b", disk, "-F", "qcow2", child).CombinedOutput()
	require.NoError(t, err, "%s", out)
	read(child)
	virsh(t, "pool-refresh", "templates")
	read("templates/child.qcow2")
	require.NoError(t, os.Rename(disk, disk+".away"))
	said, err := command(t, dir, "mintbatch", "template", "inspect", child)
	assert.Error(t, err)
	assert.Contains(t, said, "its parent: file does not exist: "+disk)
	require.NoError(t, os.Rename(disk+".away", disk))

	said, err = command(t, dir, "mintbatch", "template", "inspect", "templates/nothing.qcow2")
	assert.Error(t, err)
	assert.Contains(t, said, "not found")
}
