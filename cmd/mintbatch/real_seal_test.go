//go:build real

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// spoil is what a master has got in its life, and what none of its clones may have.
const spoil = `set -e
mkdir -p /root/.ssh /var/lib/dhcp /etc/netplan
ssh-keygen -q -t ed25519 -N '' -f /root/.ssh/id_ed25519
echo 'PLANTED-AUTHORIZED' >/root/.ssh/authorized_keys
echo 'PLANTED-HISTORY' >/root/.bash_history
echo 'PLANTED-LEASE' >/var/lib/dhcp/dhclient.leases
echo 'PLANTED-LOG' >/var/log/planted.log
echo 'PLANTED-TMP' >/var/tmp/planted
echo 'machine planted login x password PLANTED-NETRC' >/root/.netrc
printf 'network: {version: 2, ethernets: {planted: {match: {macaddress: "52:54:00:00:00:77"}, addresses: [198.51.100.77/24]}}}\n' >/etc/netplan/77-planted.yaml
useradd -m planted && echo 'planted:password' | chpasswd
sync`

// A master that was used is sealed, from its agent and by cloud-init where the agent runs no commands; its clones are three
// different machines, and nothing of the master is left.
func TestRealSeal(t *testing.T) {
	dir, site := lab(t)
	write(t, dir, "machines.csv", "machine,preset,template,firmware\nmaster,sonar-node,deb12-base,uefi\n")
	minted(t, dir)
	out := inside(t, "master", spoil+"\ncat /etc/machine-id /etc/ssh/ssh_host_ed25519_key.pub")
	said, err := command(t, dir, "mintbatch", "power", "off", "--yes", "master")
	require.NoError(t, err, said)
	before, err := command(t, dir, "mintbatch", "template", "inspect", "machine:master")
	assert.Error(t, err)
	for _, code := range []string{"left-ssh-host-keys", "left-private-keys", "left-credentials", "left-known-password", "left-static-network", "left-shell-history", "left-cloud-instance"} {
		assert.Contains(t, before, code)
	}

	// Killed while the copy is being cleaned, it is made anew.
	_, err = command(t, dir, "mintbatch-dying", "sealed@1:start:acted", "template", "seal", "master", "--as", "sealed", "--yes")
	assert.Error(t, err)
	write(t, dir, "last.sh", "#!/bin/sh\necho hooked >/srv/last\n")
	said, err = command(t, dir, "mintbatch", "template", "seal", "master", "--as", "sealed", "--run", "last.sh", "--yes")
	require.NoError(t, err, said)
	assert.Contains(t, said, "template sealed@1 is made")
	clean, err := command(t, dir, "mintbatch", "template", "inspect", "sealed@1")
	require.NoError(t, err, clean)
	assert.NotRegexp(t, `\[left-(ssh|machine|cloud|private|known|static|shell|dhcp|random|logs|mail|host)`, clean)
	assert.NotContains(t, there(t, site), "sealing", "the copy is gone")
	assert.NotRegexp(t, `(?m)^ +running`, virsh(t, "list", "--all"))

	// Nobody writes to its disk, which is in one piece; nothing that was planted can be read in it.
	disks, err := filepath.Glob(filepath.Join(site, "*", "sealed@1.*.template.qcow2"))
	require.NoError(t, err)
	require.Len(t, disks, 1)
	about, err := os.Stat(disks[0])
	require.NoError(t, err)
	assert.Zero(t, about.Mode()&0o222)
	raw := filepath.Join(t.TempDir(), "raw")
	check, err := exec.Command("qemu-img", "check", disks[0]).CombinedOutput()
	require.NoError(t, err, "%s", check)
	require.NoError(t, exec.Command("qemu-img", "convert", "-O", "raw", disks[0], raw).Run())
	found, _ := exec.Command("grep", "-aoE", "PLANTED-[A-Z]+", raw).Output()
	assert.Empty(t, strings.Fields(string(found)), "of what was planted")
	info, err := exec.Command("qemu-img", "info", disks[0]).Output()
	require.NoError(t, err)
	assert.NotContains(t, string(info), "backing file")

	nvram := regexp.MustCompile(`<nvram[^>]*>([^<]+)</nvram>`).FindStringSubmatch(virsh(t, "dumpxml", "sealed@1"))
	if nvram != nil { // a libvirt that chooses the firmware itself tells of none
		inFirst, err := exec.Command(os.Getenv("MINTBATCH_REAL_INSIDE"), "test", "-s", nvram[1]).CombinedOutput()
		assert.NoError(t, err, "the template has the variables of the firmware: %s %s", nvram[1], inFirst)
	}

	// Three clones are three machines.
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "mintbatch.yaml", strings.Replace(string(setup), "templates:\n", "templates:\n  sealed: {guest: linux}\n", 1))
	write(t, dir, "machines.csv", "machine,preset,template,firmware,clone\nmaster,sonar-node,deb12-base,uefi,\nc-[1-2],sonar-node,sealed,,linked\nc-3,sonar-node,sealed@1,,full\n")
	minted(t, dir, "c-*")
	seen := map[string]bool{}
	for _, part := range strings.Fields(out) {
		seen[part] = true // the master's
	}
	for i := 1; i <= 3; i++ {
		for _, what := range []string{"cat /etc/machine-id", "cut -d' ' -f2 /etc/ssh/ssh_host_ed25519_key.pub", "sha256sum </var/lib/systemd/random-seed", "hostname"} {
			is := strings.TrimSpace(inside(t, fmt.Sprintf("c-%d", i), what))
			assert.NotEmpty(t, is)
			assert.False(t, seen[is], "%s of c-%d is another's: %s", what, i, is)
			seen[is] = true
		}
		left := inside(t, fmt.Sprintf("c-%d", i), "for f in /root/.ssh/id_ed25519 /root/.netrc /root/.bash_history /var/log/planted.log /etc/netplan/77-planted.yaml; do [ ! -s $f ] || echo $f; done; grep ^planted: /etc/shadow")
		assert.Regexp(t, regexp.MustCompile(`^planted:!`), strings.TrimSpace(left))
		assert.Equal(t, "hooked", inside(t, fmt.Sprintf("c-%d", i), "cat /srv/last"))
	}
	said, err = command(t, dir, "mintbatch", "template", "drop", "sealed@1", "--yes")
	assert.Error(t, err)
	assert.Contains(t, said, "needed by 2 linked clones: c-1 c-2")
	said, err = command(t, dir, "mintbatch", "retire", "--yes", "c-1", "c-2")
	require.NoError(t, err, said)
	said, err = command(t, dir, "mintbatch", "template", "drop", "sealed@1", "--yes")
	require.NoError(t, err, said)
	disks, err = filepath.Glob(filepath.Join(site, "*", "sealed@1.*"))
	require.NoError(t, err)
	assert.Empty(t, disks)
}

// An image becomes a template, through a library at another store too, with the same content.
func TestRealImages(t *testing.T) {
	dir, site := lab(t)
	disk := filepath.Join(site, "templates", "deb12-disk.qcow2")
	for _, args := range [][]string{{"template", "make", "image", "--disk", disk, "--store", "templates", "--yes"}, {"template", "make", "volume", "--disk", "templates/deb12-disk.qcow2", "--store", "templates", "--yes"},
		{"template", "blank", "empty", "--size", "3GiB", "--store", "templates", "--yes"}} {
		said, err := command(t, dir, "mintbatch", args...)
		require.NoError(t, err, said)
	}
	same := func(pattern string) {
		t.Helper()
		made, err := filepath.Glob(filepath.Join(site, "*", pattern))
		require.NoError(t, err)
		require.Len(t, made, 1)
		said, err := exec.Command("qemu-img", "compare", disk, made[0]).CombinedOutput()
		assert.NoError(t, err, "%s", said)
		said, err = exec.Command("qemu-img", "check", made[0]).CombinedOutput()
		assert.NoError(t, err, "%s", said)
	}
	same("image@1.*")
	same("volume@1.*")
	require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "signer")).Run())
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "mintbatch.yaml", string(setup)+"\nlibraries: {stick: {folder: stick, signers: file:signer.pub, sign: file:signer}}\n")
	for _, args := range [][]string{{"library", "add", "image", "--yes"}, {"template", "drop", "image@1", "--yes"}, {"library", "fetch", "image", "--site", "quay", "--store", "templates", "--yes"}} {
		said, err := command(t, dir, "mintbatch", args...)
		require.NoError(t, err, said)
	}
	same("image@1.*")
}
