//go:build real

package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// These tests need a hypervisor: `make real` gives them one. They look at it
// with virsh and at the guests with the agent, and not through the program.

// lab lays out stores, networks and templates at the hypervisor, and a setup
// for them in a folder.
func lab(t *testing.T) (dir string, site string) {
	t.Helper()
	top, err := os.MkdirTemp("", "mintbatch-real-") // where the emulator's user gets through
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(top) })
	require.NoError(t, os.Chmod(top, 0o755))
	site = filepath.Join(top, "lab")
	out, err := exec.Command("../../real/lab.sh", os.Getenv("MINTBATCH_REAL_GUEST"), site).CombinedOutput()
	require.NoError(t, err, string(out))
	dir = t.TempDir()
	key, err := command(t, dir, "mintbatch", "secret", "keygen", "operator.key")
	require.NoError(t, err, key)
	setup, err := os.ReadFile("testdata/real/mintbatch.yaml")
	require.NoError(t, err)
	recipient := regexp.MustCompile(`age1[a-z0-9]+`).FindString(key)
	write(t, dir, "mintbatch.yaml", strings.ReplaceAll(string(setup), "@RECIPIENT@", recipient))
	for _, name := range []string{"machines.csv", "meta-data.tmpl", "user-data.tmpl", "network-config.tmpl"} {
		content, err := os.ReadFile("testdata/real/" + name)
		require.NoError(t, err)
		write(t, dir, name, string(content))
	}
	out, err = exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "authority")).CombinedOutput()
	require.NoError(t, err, string(out))
	private, err := os.Open(filepath.Join(dir, "authority"))
	require.NoError(t, err)
	defer private.Close()
	set := exec.Command("mintbatch", "secret", "set", "host-authority")
	set.Dir, set.Stdin = dir, private
	out, err = set.CombinedOutput()
	require.NoError(t, err, string(out))
	return dir, site
}

func virsh(t *testing.T, args ...string) string {
	t.Helper()
	out, err := exec.Command("virsh", append([]string{"-q", "-c", "qemu:///system"}, args...)...).CombinedOutput()
	require.NoError(t, err, "virsh %v: %s", args, out)
	return strings.TrimSpace(string(out))
}

// there is all that a mint could leave behind: machines, files of the store and
// NVRAM.
func there(t *testing.T, site string) string {
	t.Helper()
	var words []string
	for _, folder := range []string{filepath.Join(site, "pool"), os.Getenv("MINTBATCH_REAL_STATE") + "/qemu/nvram"} {
		entries, _ := os.ReadDir(folder)
		for _, e := range entries {
			words = append(words, filepath.Join(folder, e.Name()))
		}
	}
	return virsh(t, "list", "--all", "--name") + "\n" + virsh(t, "vol-list", "pool") + "\n" + strings.Join(words, "\n")
}

// inside runs a shell script in a guest and returns what it prints.
func inside(t *testing.T, machine, script string) string {
	t.Helper()
	var begun struct{ Return struct{ PID int } }
	agent := func(order string, into any) {
		for tries := 0; ; tries++ {
			out, err := exec.Command("virsh", "-q", "-c", "qemu:///system", "qemu-agent-command", "--timeout", "60", machine, order).CombinedOutput()
			if err == nil {
				require.NoError(t, json.Unmarshal(out, into), string(out))
				return
			}
			require.Less(t, tries, 60, "%s: %s", machine, out)
			time.Sleep(time.Second)
		}
	}
	quoted, err := json.Marshal(script)
	require.NoError(t, err)
	agent(`{"execute":"guest-exec","arguments":{"path":"/bin/sh","arg":["-c",`+string(quoted)+`],"capture-output":true}}`, &begun)
	for {
		var status struct {
			Return struct {
				Exited bool
				Output string `json:"out-data"`
			}
		}
		agent(fmt.Sprintf(`{"execute":"guest-exec-status","arguments":{"pid":%d}}`, begun.Return.PID), &status)
		if status.Return.Exited {
			said, err := base64.StdEncoding.DecodeString(status.Return.Output)
			require.NoError(t, err)
			return strings.TrimSpace(string(said))
		}
		time.Sleep(200 * time.Millisecond)
	}
}

func minted(t *testing.T, dir string, args ...string) string {
	t.Helper()
	out, err := command(t, dir, "mintbatch", append([]string{"mint", "--yes"}, args...)...)
	require.NoError(t, err, out)
	return out
}

// Machines from a template machine and from a bare volume, linked and full, come
// up as the sheet says by their guests' own word; minted again nothing happens;
// changed, gone and retired, all is as it was before.
func TestRealMachinesComeUpAsTheSheetSays(t *testing.T) {
	dir, site := lab(t)
	before := there(t, site)
	out := minted(t, dir)
	t.Log(out)

	for name, has := range map[string]struct{ template, sees string }{
		"bms-sonar-01": {"deb12-disk", "198.51.100.11/24"},
		"bms-chart-01": {"deb12-base", "203.0.113.50/24"},
		"bms-sonar-03": {"deb12-disk", "198.51.100.101/24"},
	} {
		for script, want := range map[string]string{
			"hostname":                              "^" + name + "$",
			"hostname -f":                           "^" + name + `\.brackwater\.example$`,
			"cat /etc/hosts":                        name + `\.brackwater\.example`,
			"ip -o addr":                            regexp.QuoteMeta(has.sees),
			"ls /sys/class/net":                     "adapter1",
			"getent passwd survey":                  "/bin/bash$",
			"cat /home/survey/.ssh/authorized_keys": "operator@brackwater.example",
			"sudo -l -U survey":                     `\(ALL : ALL\) ALL`,
			"readlink /etc/localtime":               "Europe/Oslo",
			"cat /run/cloud-init/result.json":       `"errors": \[\]`,
			"systemctl is-active ssh":               "^active$",
		} {
			assert.Regexp(t, want, inside(t, name, script), "%s: %s", name, script)
		}
		password, err := command(t, dir, "mintbatch", "secret", "show", name)
		require.NoError(t, err, password)
		shadow := strings.Split(inside(t, name, "getent shadow survey"), ":")[1]
		hashed, err := exec.Command("perl", "-e", "print crypt($ARGV[0], $ARGV[1])", "--", strings.TrimSpace(password), shadow).Output()
		require.NoError(t, err)
		assert.Equal(t, shadow, string(hashed), "%s: its generated password", name)
		listed := shown(t, dir, name)
		assert.Contains(t, listed.HostKey, inside(t, name, "cut -d' ' -f2 /etc/ssh/ssh_host_ed25519_key.pub"), name)
	}
	expecting, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "mintbatch.yaml", strings.Replace(string(expecting), "    firstboot: ready\n", "    firstboot: ready\n    expect: {files: [/etc/survey-ready, /no/where], services: [ssh, no-such], ports: [22, 81]}\n", 1))
	looked, err := command(t, dir, "mintbatch", "verify", "bms-sonar-01")
	assert.Error(t, err)
	assert.Contains(t, looked, "no        there is no file /no/where; service no-such is not active; nothing answers at TCP port 81\n")
	write(t, dir, "mintbatch.yaml", string(expecting))
	ids := map[string]string{}
	for _, name := range []string{"bms-sonar-01", "bms-chart-01", "bms-sonar-03"} {
		id := inside(t, name, "cat /etc/machine-id")
		assert.Len(t, id, 32, name)
		assert.Empty(t, ids[id], "%s shares its machine-id with %s", name, ids[id])
		ids[id] = name
	}
	for script, want := range map[string]string{
		"ip -4 route":              `(?s)default via 198.51.100.1 dev adapter1.*192.0.2.0/24 via 203.0.113.9 dev adapter2`,
		"ip -6 addr show adapter1": "2001:db8:b0a7::11/64",
		"ip -6 addr show adapter2; cat /proc/sys/net/ipv6/conf/adapter2/disable_ipv6":       "^1$",
		"findmnt -no SOURCE,FSTYPE,LABEL /srv/charts; ls /etc/own-fragment /etc/own-script": `(?s)^/dev/\S+1 +ext4 +charts.*own-fragment.*own-script`,
		"stat -c '%a %U %G' /etc/survey/depths; cat /etc/survey/depths":                     `(?s)640 root adm.*yes: 012`,
		"chage -l survey": "password must be changed",
		"getent passwd desk; id -Gn desk; sudo -l -U desk":                     `(?s)Chart desk.*/bin/sh.*adm.*NOPASSWD: ALL`,
		"ssh-keygen -L -f /etc/ssh/ssh_host_ed25519_key-cert.pub":              `(?s)host certificate.*quay/bms-sonar-01.*bms-sonar-01.brackwater.example.*2001:db8:b0a7::11`,
		"/usr/sbin/sshd -T | grep -iE 'hostcertificate|permitroot'":            `(?s)permitrootlogin no.*hostcertificate`,
		"ip -o addr show adapter2":                                             "203.0.113.11/24",
		"cat /run/systemd/resolve/resolv.conf /etc/resolv.conf /etc/netplan/*": "198.51.100.2",
		"cat /etc/survey-ready":                                                "^surveyed$",
		"lsblk -dbno SIZE /dev/disk/by-id/virtio-data-1":                       "1073741824",
		"df -B1 --output=size / | tail -n 1":                                   "^ ?(19|20|21)[0-9]{8}$",
		"blkid -L cidata || echo no seed":                                      "no seed",
	} {
		assert.Regexp(t, want, inside(t, "bms-sonar-01", script), script)
	}
	looked = virsh(t, "dumpxml", "bms-chart-01")
	for _, kept := range []string{"i6300esb", "discard='unmap'", "office.brackwater.example", "tickpolicy='catchup'", "<boot dev='hd'/>", ".disk.qcow2", "_VARS.fd"} {
		assert.Contains(t, looked, kept)
	}
	for _, gone := range []string{"52:54:00:00:00:01", "the template", "Debian 12, prepared"} {
		assert.NotContains(t, looked, gone)
	}
	assert.Equal(t, `Bow & stern <array> "7"`, virsh(t, "desc", "bms-sonar-01"))
	assert.Equal(t, "shut off", virsh(t, "domstate", "bms-sonar-02"), "confirmed, then off")
	assert.Contains(t, virsh(t, "snapshot-list", "--name", "bms-sonar-01"), "fresh")
	for _, name := range []string{"bms-sonar-01", "bms-sonar-02", "bms-sonar-03"} {
		assert.NotRegexp(t, name+`\S*\.seed`, virsh(t, "vol-list", "pool"), "its seed was to be dropped")
	}
	seeds, err := filepath.Glob(filepath.Join(site, "pool", "bms-chart-01.*.seed"))
	require.NoError(t, err)
	require.Len(t, seeds, 1)
	info, err := os.Stat(seeds[0])
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077, "others can read the seed")
	for _, disk := range []string{"bms-sonar-01", "bms-sonar-03"} {
		files, _ := filepath.Glob(filepath.Join(site, "pool", disk+".*.disk.qcow2"))
		require.Len(t, files, 1)
		chain, err := exec.Command("qemu-img", "info", "--force-share", "--backing-chain", files[0]).Output()
		require.NoError(t, err)
		assert.Equal(t, disk == "bms-sonar-01", strings.Contains(string(chain), "deb12-disk.qcow2"), disk)
	}

	machines := virsh(t, "list", "--all", "--uuid")
	assert.Contains(t, minted(t, dir), "Nothing to do")
	assert.Equal(t, machines, virsh(t, "list", "--all", "--uuid"))
	verdict, err := command(t, dir, "mintbatch", "verify")
	require.NoError(t, err, verdict)

	// Where the agent is silent, the lease tells at least the address.
	inside(t, "bms-chart-01", "systemd-run --on-active=2 systemctl stop qemu-guest-agent")
	time.Sleep(15 * time.Second)
	one, err := command(t, dir, "mintbatch", "show", "--json", "bms-chart-01")
	require.NoError(t, err, one)
	assert.Contains(t, one, `"203.0.113.50/24"`)
	assert.Contains(t, virsh(t, "net-dumpxml", "chart"), "name='bms-chart-01' ip='203.0.113.50'")
	verdict, err = command(t, dir, "mintbatch", "verify", "bms-chart-01")
	require.NoError(t, err, verdict)

	// A ledger that is lost is made again from the marks.
	for _, f := range []string{"", "-wal", "-shm"} {
		_ = os.Rename(filepath.Join(dir, "mintbatch.ledger"+f), filepath.Join(dir, "lost"+f))
	}
	out, err = command(t, dir, "mintbatch", "ledger", "rebuild", "--yes")
	require.NoError(t, err, out)
	assert.Contains(t, minted(t, dir), "Nothing to do", "after the rebuild")
	for _, f := range []string{"", "-wal", "-shm"} {
		_ = os.Rename(filepath.Join(dir, "lost"+f), filepath.Join(dir, "mintbatch.ledger"+f))
	}

	// A changed row adjusts, a removed one is a stray.
	sheet, err := os.ReadFile(filepath.Join(dir, "machines.csv"))
	require.NoError(t, err)
	lines := strings.Split(string(sheet), "\n")
	write(t, dir, "machines.csv", strings.Join(append([]string{lines[0] + ",cpus,owner"},
		strings.Replace(lines[1], "1GiB", "2GiB", 1)+",,tides", lines[2]+",2,", lines[3]+",,"), "\n")+"\n")
	out = minted(t, dir)
	assert.Regexp(t, `adjust +bms-sonar-01`, out)
	assert.Regexp(t, `adjust +bms-sonar-02`, out)
	assert.Regexp(t, `stray +bms-sonar-03`, out)
	assert.Equal(t, "2147483648", inside(t, "bms-sonar-01", "lsblk -dbno SIZE /dev/disk/by-id/virtio-data-1"))
	assert.Contains(t, virsh(t, "dumpxml", "bms-sonar-01"), "owner=\"tides\"")
	assert.Contains(t, virsh(t, "dominfo", "bms-sonar-02"), "CPU(s):         2")

	out, err = command(t, dir, "mintbatch", "retire", "--yes", "bms-*")
	require.NoError(t, err, out)
	assert.Equal(t, before, there(t, site))
	assert.NotContains(t, virsh(t, "net-dumpxml", "chart"), "bms-chart-01", "its lease went with it")
}

func shown(t *testing.T, dir, name string) struct {
	HostKey string `json:"host_key"`
} {
	t.Helper()
	out, err := command(t, dir, "mintbatch", "show", "--offline", "--json", name)
	require.NoError(t, err, out)
	var d struct {
		Machines []struct {
			HostKey string `json:"host_key"`
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &d))
	require.Len(t, d.Machines, 1)
	return d.Machines[0]
}

// Killed anywhere, with the daemon restarted in mid-run or not, there is one
// machine of each row at the end, and no file that is not its own.
func TestRealKilledAndRestarted(t *testing.T) {
	dir, site := lab(t)
	before := there(t, site)
	rows := "machine,preset,clone,address,disks,checkpoint,power\n"
	n := 0
	for _, kind := range []string{"linked", "full"} {
		for _, at := range []string{"reserve:ended", "clone:begun", "clone:acted", "shape:acted", "wire:begun", "seed:acted", "checkpoint:acted"} {
			n++
			name := fmt.Sprintf("bms-tide-%02d", n)
			rows += fmt.Sprintf("%s,sonar-node,%s,pool:nodes,1GiB,fresh,off\n", name, kind)
			write(t, dir, "machines.csv", rows)
			out, err := command(t, dir, "mintbatch-dying", name+":"+at, "mint", "--yes")
			var died *exec.ExitError
			require.True(t, errors.As(err, &died) && !died.Exited(), "%s: it did not die: %v\n%s", at, err, out)
			if n%3 == 0 {
				restart(t)
			}
			minted(t, dir)
			require.Contains(t, minted(t, dir), "Nothing to do", at)
			require.Len(t, strings.Fields(virsh(t, "list", "--all", "--name")), n+1, at)
			require.Len(t, strings.Fields(virsh(t, "vol-list", "pool")), n*6, "%s: a name and a path for disk, data disk and seed", at)
		}
	}
	// The daemon goes away and comes back as soon as a run has begun a disk.
	for _, kinds := range [][]string{{"full", "linked"}, {"linked", "full"}} {
		begun := filepath.Join(site, fmt.Sprintf("pool/bms-tide-%02d.*.disk.qcow2", n+1))
		for i := range 6 {
			n++
			rows += fmt.Sprintf("bms-tide-%02d,sonar-node,%s,pool:nodes,1GiB,fresh,off\n", n, kinds[i%2])
		}
		write(t, dir, "machines.csv", rows)
		restarted := make(chan struct{})
		go func() {
			defer close(restarted)
			for range 1000 {
				if found, _ := filepath.Glob(begun); len(found) > 0 {
					break
				}
				time.Sleep(10 * time.Millisecond)
			}
			restart(t)
		}()
		out := minted(t, dir)
		<-restarted
		require.Contains(t, minted(t, dir), "Nothing to do", out)
		require.Len(t, strings.Fields(virsh(t, "list", "--all", "--name")), n+1)
		require.Len(t, strings.Fields(virsh(t, "vol-list", "pool")), n*6)
	}

	// Killed while it retires, it takes away what is left the next time.
	for i, moment := range []string{"begun", "acted"} {
		name := fmt.Sprintf("bms-tide-%02d", i+1)
		_, err := command(t, dir, "mintbatch-dying", name+":remove:"+moment, "retire", "--yes", name)
		require.Error(t, err)
	}
	write(t, dir, "machines.csv", "machine\n")
	out, err := command(t, dir, "mintbatch", "retire", "--yes", "bms-tide-*")
	require.NoError(t, err, out)
	assert.Equal(t, before, there(t, site))
}

func restart(t *testing.T) {
	out, err := exec.Command(os.Getenv("MINTBATCH_REAL_RESTART")).CombinedOutput()
	assert.NoError(t, err, string(out))
}

// What cannot be done names its cause, and leaves nothing behind.
func TestRealRefusals(t *testing.T) {
	dir, site := lab(t)
	before := there(t, site)
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	small := filepath.Join(site, "small")
	require.NoError(t, os.Mkdir(small, 0o755))
	out, err := exec.Command(os.Getenv("MINTBATCH_REAL_INSIDE"), "mount", "-t", "tmpfs", "-o", "size=64m", "tmpfs", small).CombinedOutput()
	require.NoError(t, err, string(out))
	for _, args := range [][]string{{"pool-define-as", "small", "dir", "--target", small}, {"pool-start", "small"}} {
		virsh(t, args...)
	}
	virsh(t, "define", writeDomain(t, "bms-taken-01", ""))
	snapshotted := filepath.Join(site, "templates", "snap.qcow2")
	require.NoError(t, exec.Command("qemu-img", "create", "-q", "-f", "qcow2", snapshotted, "1G").Run())
	orphan := filepath.Join(site, "templates", "orphan.qcow2")
	require.NoError(t, exec.Command("qemu-img", "create", "-q", "-u", "-f", "qcow2", "-F", "qcow2", "-b", filepath.Join(site, "templates", "lost.qcow2"), orphan, "1G").Run())
	virsh(t, "pool-refresh", "templates")
	virsh(t, "define", writeDomain(t, "snapped", snapshotted))
	virsh(t, "snapshot-create-as", "snapped", "before")
	virsh(t, "define", writeDomain(t, "orphaned", orphan))
	virsh(t, "define", writeDomain(t, "awake", ""))
	virsh(t, "start", "awake")
	after := there(t, site)

	templates := "templates:\n  snapped: {guest: linux}\n  orphaned: {guest: linux}\n  awake: {guest: linux}\n  nowhere: {guest: linux}\n"
	for name, c := range map[string]struct{ row, setup, url, want string }{
		"full pool":        {row: "a,sonar-node,full,small,,,,off", want: `store small has .* free, 77[0-9]MiB needed`},
		"too much memory":  {row: "a,sonar-node,linked,,,,4000GiB,on", want: `host quay-1 has .* of free memory, 4000GiB needed`},
		"many of them":     {row: "bms-a-[001-200],sonar-node,linked,,,,1GiB,on", want: `machines do not fit at site quay`},
		"missing network":  {row: "a,sonar-node,linked,,,nets,,off", setup: "networks:\n  nets: {source: no-such}\n", want: `site quay has no network "no-such"`},
		"missing template": {row: "a,,linked,,nowhere,,,off", setup: templates, want: `site quay has no template "nowhere"`},
		"with snapshots":   {row: "a,,linked,,snapped,,,off", setup: templates, want: `template snapped cannot be cloned: it has 1 snapshot,`},
		"broken chain":     {row: "a,,linked,,orphaned,,,off", setup: templates, want: `template orphaned cannot be cloned: its disk depends on .*lost.qcow2`},
		"running template": {row: "a,,linked,,awake,,,off", setup: templates, want: `template awake cannot be cloned: it is running`},
		"shrinking":        {row: "a,sonar-node,linked,,,,,off,1GiB", want: `the disk of template templates/deb12-disk.qcow2 has .*, and a disk cannot shrink`},
		"taken":            {row: "bms-taken-01,sonar-node,linked,,,,,off", want: `a machine of this name that does not belong to this ledger`},
		"no daemon":        {row: "a,sonar-node,linked,,,,,off", url: "qemu+unix:///system?socket=/nowhere/libvirt-sock", want: `check that libvirtd is running`},
		"unknown host key": {row: "a,sonar-node,linked,,,,,off", url: "qemu+ssh://root@127.0.0.1:1/system", want: `connection refused`},
	} {
		text := string(setup)
		if c.url != "" {
			text = strings.Replace(text, "qemu:///system", c.url, 1)
		}
		write(t, dir, "mintbatch.yaml", text)
		write(t, dir, "more.yaml", "mintbatch: 1\n"+c.setup)
		if !strings.Contains(strings.Split(c.row, ",")[7], "o") {
			t.Fatal(name)
		}
		write(t, dir, "machines.csv", "machine,preset,clone,store,template,network,memory,power,disk\n"+c.row+strings.Repeat(",", 8-strings.Count(c.row, ","))+"\n")
		out, err := command(t, dir, "mintbatch", "mint", "--yes", "--setup", "mintbatch.yaml", "--setup", "more.yaml")
		assert.Error(t, err, name)
		assert.Regexp(t, c.want, strings.Join(strings.Fields(out), " "), name)
		assert.Equal(t, after, there(t, site), name)
	}

	// What the networks have given to machines that are not ours is nobody else's.
	virsh(t, "attach-interface", "snapped", "network", "chart", "--mac", "52:54:00:00:00:77", "--config")
	virsh(t, "net-update", "chart", "add", "ip-dhcp-host", "<host mac='52:54:00:00:00:77' ip='203.0.113.50'/>", "--live", "--config")
	write(t, dir, "mintbatch.yaml", string(setup))
	write(t, dir, "machines.csv", "machine,preset,address,mac\nbms-chart-01,chart-node,,\n")
	out2, err := command(t, dir, "mintbatch", "proof")
	assert.NoError(t, err, out2)
	assert.Contains(t, out2, "203.0.113.51")
	write(t, dir, "machines.csv", "machine,preset,address,mac\nbms-chart-01,chart-node,203.0.113.50,52:54:00:00:00:77\n")
	out2, err = command(t, dir, "mintbatch", "proof")
	assert.Error(t, err)
	assert.Contains(t, out2, "address 203.0.113.50 is seen at site quay (snapped)")
	assert.Contains(t, out2, "MAC address 52:54:00:00:00:77 belongs to machine snapped at site quay, which belongs to no ledger")
	virsh(t, "net-update", "chart", "delete", "ip-dhcp-host", "<host mac='52:54:00:00:00:77' ip='203.0.113.50'/>", "--live", "--config")

	// A store that fills up only while the disk is being written.
	write(t, dir, "mintbatch.yaml", strings.Replace(string(setup), "    parallel: 4", "    parallel: 4\n    spare_disk: 1MiB", 1))
	write(t, dir, "machines.csv", "machine,template,clone,store,power\na,growing,full,small,off\n")
	write(t, dir, "more.yaml", "mintbatch: 1\ntemplates: {growing: {guest: linux, volume: templates/growing.qcow2, hardware: {emulator: qemu}}}\n")
	growing := filepath.Join(site, "templates", "growing.qcow2")
	require.NoError(t, exec.Command("sh", "-c", `head -c 100000000 /dev/zero | tr '\0' a >$0.raw && qemu-img convert -c -O qcow2 $0.raw $0 && rm $0.raw`, growing).Run())
	out2, err = command(t, dir, "mintbatch", "mint", "--yes", "--setup", "mintbatch.yaml", "--setup", "more.yaml")
	assert.Error(t, err, out2)
	assert.Contains(t, out2, `store "small" may be too small (up to `)
	assert.Equal(t, after, there(t, site), "a full store keeps nothing of it")

	// Somebody who may not use the socket is told so.
	write(t, dir, "machines.csv", "machine,template\nbms-tide-01,deb12-disk\n")
	socket := filepath.Join(site, "closed")
	closed, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer closed.Close()
	require.NoError(t, os.Chmod(socket, 0o600))
	write(t, dir, "mintbatch.yaml", strings.Replace(string(setup), "qemu:///system", "qemu+unix:///system?socket="+socket, 1))
	public, err := os.MkdirTemp("", "mintbatch-nobody-")
	require.NoError(t, err)
	defer os.RemoveAll(public)
	require.NoError(t, os.Chmod(public, 0o777))
	for _, name := range []string{"mintbatch.yaml", "machines.csv", "meta-data.tmpl", "user-data.tmpl", "network-config.tmpl"} {
		content, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(public, name), content, 0o644))
	}
	program, err := exec.LookPath("mintbatch")
	require.NoError(t, err)
	content, err := os.ReadFile(program)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(public, "mintbatch"), content, 0o755))
	said, err := command(t, public, "setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", filepath.Join(public, "mintbatch"), "proof")
	assert.Error(t, err)
	assert.Contains(t, said, "no permission to use libvirt's socket")

	virsh(t, "destroy", "awake")
	for _, name := range []string{"awake", "snapped", "orphaned", "bms-taken-01"} {
		virsh(t, "undefine", name, "--snapshots-metadata")
	}
	assert.Equal(t, before, there(t, site))
}

// Disks that are kept outlive their machine, whatever becomes of the ledger: a
// machine of the same name has others.
// From an empty folder to three machines: the setup that mintbatch new makes of what the host
// has, a sheet of one row, and the commands that it names.
func TestRealNewcomer(t *testing.T) {
	lab(t)
	dir := t.TempDir()
	out, err := command(t, dir, "mintbatch", "new", "leg", "--libvirt", "qemu:///system")
	require.NoError(t, err, out)
	assert.Contains(t, out, "next: cd leg; mintbatch setup check --sites")
	dir = filepath.Join(dir, "leg")
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(setup), `"deb12-base": {guest: linux}`)
	assert.Contains(t, string(setup), `"chart": {}`)
	write(t, dir, "rows.csv", "machine,preset,network,template\nbms-new-[1-3],small,chart,deb12-base\n")
	for _, args := range [][]string{{"setup", "check", "--sites"}, {"check", "--sheet", "rows.csv"}, {"proof", "--sheet", "rows.csv"}} {
		out, err := command(t, dir, "mintbatch", args...)
		require.NoError(t, err, out)
	}
	out = minted(t, dir, "--sheet", "rows.csv")
	assert.Contains(t, out, "new 3 done")
	assert.Equal(t, "bms-new-2", strings.TrimSpace(inside(t, "bms-new-2", "hostname")))
	out, err = command(t, dir, "mintbatch", "verify", "--sheet", "rows.csv")
	require.NoError(t, err, out)
	out, err = command(t, dir, "mintbatch", "retire", "--yes", "--sheet", "rows.csv", "bms-new-*")
	require.NoError(t, err, out)
}

func TestRealKeptDisks(t *testing.T) {
	dir, site := lab(t)
	write(t, dir, "machines.csv", "machine,preset,clone,store,power,disks\nbms-keep-01,sonar-node,linked,pool,off,64MiB\n")
	kept := func() []string {
		all, err := filepath.Glob(filepath.Join(site, "pool", "bms-keep-01.*"))
		require.NoError(t, err)
		return all
	}
	out, err := command(t, dir, "sh", "-c", "mintbatch ledger export >before.jsonl")
	require.NoError(t, err, out)
	minted(t, dir)
	require.Len(t, kept(), 3, "two disks and the seed")
	out, err = command(t, dir, "mintbatch", "retire", "--yes", "--keep-disks", "bms-keep-01")
	require.NoError(t, err, out)
	assert.NotContains(t, virsh(t, "list", "--all", "--name"), "bms-keep-01")
	stay := kept()
	require.Len(t, stay, 3, "two disks and their mark")
	disks := 0
	for _, file := range stay {
		assert.NotContains(t, file, ".seed")
		if strings.HasSuffix(file, ".qcow2") {
			disks++
			assert.Contains(t, out, file)
			said, err := exec.Command("qemu-img", "check", file).CombinedOutput()
			require.NoError(t, err, string(said))
		}
	}
	assert.Equal(t, 2, disks)
	out, err = command(t, dir, "mintbatch", "template", "list")
	require.NoError(t, err, out)
	assert.Regexp(t, `deb12-disk .* 1 *\n`, out+"\n", "the disk still needs its template")
	minted(t, dir)
	assert.Len(t, kept(), 6)
	out, err = command(t, dir, "mintbatch", "retire", "--yes", "bms-keep-01")
	require.NoError(t, err, out)
	assert.Equal(t, stay, kept(), "only its own went")

	// A copy of the ledger from before knows nothing of them; the site does, and what is
	// made then has an identity of its own.
	out, err = command(t, dir, "sh", "-c", "rm mintbatch.ledger* && mintbatch ledger import before.jsonl && mintbatch mint --yes")
	require.NoError(t, err, out)
	assert.Subset(t, kept(), stay)
	assert.Len(t, kept(), 6)
	out, err = command(t, dir, "mintbatch", "retire", "--yes", "bms-keep-01")
	require.NoError(t, err, out)
	assert.Equal(t, stay, kept())
	for _, file := range stay {
		virsh(t, "vol-delete", file)
	}
	minted(t, dir)

	// Somebody's copy of the machine has its mark, too, and stays; so does a disk that another machine uses.
	text := virsh(t, "dumpxml", "--inactive", "bms-keep-01")
	require.Contains(t, text, "urn:mintbatch:mark")
	text = regexp.MustCompile(`<(uuid|mac)( [^>]*/)?>([^<]*</uuid>)?`).ReplaceAllString(strings.Replace(text, "<name>bms-keep-01<", "<name>theirs<", 1), "")
	diskless := regexp.MustCompile(`(?s)<disk .*</disk>`).ReplaceAllString(text, "")
	define := func(text string) {
		t.Helper()
		copied := filepath.Join(t.TempDir(), "theirs.xml")
		require.NoError(t, os.WriteFile(copied, []byte(text), 0o600))
		virsh(t, "define", copied)
	}
	define(diskless)
	out, err = command(t, dir, "mintbatch", "verify", "bms-keep-01")
	require.NoError(t, err, out)
	virsh(t, "undefine", "theirs")
	define(text)
	out, err = command(t, dir, "mintbatch", "retire", "--yes", "bms-keep-01")
	require.Error(t, err, out)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "is a disk of machine theirs, too")
	assert.Len(t, kept(), 3)
	virsh(t, "undefine", "theirs")
	define(diskless)
	out, err = command(t, dir, "mintbatch", "retire", "--yes", "bms-keep-01")
	require.NoError(t, err, out)
	assert.Empty(t, kept())
	assert.Contains(t, virsh(t, "list", "--all", "--name"), "theirs")
	virsh(t, "undefine", "theirs")
}

// What somebody has changed with another tool is reported and put right; an adapter
// that comes later is plugged into the running machine, which is left running.
func TestRealDrift(t *testing.T) {
	dir, _ := lab(t)
	head := "machine,preset,clone,store,power,notes,network.2\n"
	write(t, dir, "machines.csv", head+"bms-drift-01,sonar-node,linked,pool,off,as made,\n")
	minted(t, dir)
	same := func(want string) {
		t.Helper()
		out, err := command(t, dir, "mintbatch", "proof", "--each")
		require.NoError(t, err, out)
		assert.Regexp(t, want, out)
	}
	same(`same +bms-drift-01 .* dhcp[^\n]*\n`)
	mac := regexp.MustCompile(`..:..:..:..:..:..`).FindString(virsh(t, "domiflist", "bms-drift-01"))
	virsh(t, "desc", "bms-drift-01", "--config", "mine")
	virsh(t, "setmaxmem", "bms-drift-01", "1G", "--config")
	virsh(t, "detach-interface", "bms-drift-01", "network", "--mac", mac, "--config")
	virsh(t, "attach-interface", "bms-drift-01", "network", "chart", "--mac", mac, "--model", "virtio", "--config")
	same(`changed at the site: memory 640MiB to 1GiB; .*network survey to chart; .*notes as made to mine`)
	out, err := command(t, dir, "mintbatch", "mint", "--yes", "--fix-drift")
	require.NoError(t, err, out)
	same(`same +bms-drift-01 .* dhcp[^\n]*\n`)
	assert.Contains(t, virsh(t, "domiflist", "bms-drift-01"), "survey")

	virsh(t, "start", "bms-drift-01")
	write(t, dir, "machines.csv", head+"bms-drift-01,sonar-node,linked,pool,off,as made,chart\n")
	same(`adjust +bms-drift-01 .*network.2 \(none\) to chart dhcp \(may restart it; the guest is not reconfigured\); changed at the site: power off to on`)
	minted(t, dir)
	assert.Regexp(t, `(?s)vnet\d+ +network +survey.*vnet\d+ +network +chart`, virsh(t, "domiflist", "bms-drift-01"))
	assert.Equal(t, "running", virsh(t, "domstate", "bms-drift-01"))
	write(t, dir, "machines.csv", strings.Replace(head, "notes", "notes,cpus", 1)+"bms-drift-01,sonar-node,linked,pool,stay-on,as made,2,chart\n")
	out, err = command(t, dir, "mintbatch", "mint", "--yes")
	assert.Error(t, err)
	assert.Regexp(t, `refused .*needs a restart, which power: stay-on forbids`, out)
	virsh(t, "destroy", "bms-drift-01")
	out, err = command(t, dir, "mintbatch", "retire", "--yes", "bms-drift-01")
	require.NoError(t, err, out)
}

// A site of two hosts spreads its machines, copies a disk to the host that does
// not have it, and goes on without the host that is down.
func TestRealTwoHosts(t *testing.T) {
	dir, site := lab(t)
	second := "qemu+unix:///system?socket=" + os.Getenv("MINTBATCH_REAL_SECOND")
	at := func(args ...string) string {
		out, err := exec.Command("virsh", append([]string{"-q", "-c", second}, args...)...).CombinedOutput()
		require.NoError(t, err, "virsh %v: %s", args, out)
		return strings.TrimSpace(string(out))
	}
	folder := filepath.Join(site, "second")
	require.NoError(t, os.Mkdir(folder, 0o755))
	at("pool-define-as", "pool", "dir", "--target", folder)
	at("pool-start", "pool")
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "mintbatch.yaml", strings.Replace(string(setup), "quay-1: qemu:///system", "quay-1: qemu:///system\n      quay-2: "+second, 1))
	write(t, dir, "machines.csv", "machine,template,clone,host,power\nbms-tide-01,deb12-disk,linked,,off\nbms-tide-02,deb12-disk,full,quay-2,off\n")
	out := minted(t, dir)
	assert.Regexp(t, `bms-tide-01 .* quay-1 +pool`, out)
	assert.Regexp(t, `bms-tide-02 .* quay-2 +pool`, out)
	assert.Equal(t, "bms-tide-02", at("list", "--all", "--name"))
	files, err := filepath.Glob(filepath.Join(folder, "bms-tide-02.*.disk.qcow2"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	compared, err := exec.Command("qemu-img", "compare", filepath.Join(site, "templates", "deb12-disk.qcow2"), files[0]).CombinedOutput()
	require.NoError(t, err, string(compared))
	assert.Contains(t, string(compared), "identical")

	// Moved by hand, and its definition left behind: nothing is done to either before that is clear.
	behind := filepath.Join(dir, "behind.xml")
	write(t, dir, "behind.xml", virsh(t, "dumpxml", "--inactive", "bms-tide-01"))
	at("define", behind)
	for _, args := range [][]string{{"mint", "--yes", "--allow-remake"}, {"retire", "--yes", "bms-tide-01"}, {"retire", "--yes", "--keep-disks", "bms-tide-01"}} {
		refused, err := command(t, dir, "mintbatch", args...)
		require.Error(t, err, refused)
		assert.Contains(t, refused, "bms-tide-01 is defined on the hosts quay-1 and quay-2: undefine it where it does not belong any more")
	}
	at("undefine", "bms-tide-01")
	minted(t, dir)

	stopped, err := exec.Command(os.Getenv("MINTBATCH_REAL_STOP")).CombinedOutput()
	require.NoError(t, err, string(stopped))
	write(t, dir, "machines.csv", "machine,template,clone,host,power\nbms-tide-01,deb12-disk,linked,,off\nbms-tide-02,deb12-disk,full,quay-2,off\nbms-tide-03,deb12-disk,full,,off\n")
	rows, err := os.ReadFile(filepath.Join(dir, "machines.csv"))
	require.NoError(t, err)
	out = minted(t, dir)
	assert.Contains(t, out, "host quay-2 of site quay is not available")
	assert.Regexp(t, `new +bms-tide-03 .* quay-1`, out)
	listed, err := command(t, dir, "mintbatch", "list")
	require.NoError(t, err, listed)
	assert.Regexp(t, `bms-tide-02 +quay +quay-2 +made\?`, listed)

	// Hardware that the row and the setup ask for; a disk that takes its room at once.
	write(t, dir, "more.yaml", "mintbatch: 1\ntemplates: {headless: {guest: linux, volume: templates/deb12-disk.qcow2, hardware: {emulator: qemu, disk_bus: scsi, sockets: 2, display: off}}}\n")
	write(t, dir, "machines.csv", "machine,template,cpus,firmware,disks,link,network,power\nbms-tide-05,headless,4,uefi,64MiB::full,down,survey,off\n")
	out = minted(t, dir, "--setup", "mintbatch.yaml", "--setup", "more.yaml", "bms-tide-05")
	looked := virsh(t, "dumpxml", "--inactive", "bms-tide-05")
	for _, has := range []string{"firmware='efi'", "sockets='2'", "cores='2'", "bus='scsi'", "<link state='down'/>", "<serial>data-1</serial>"} {
		assert.Contains(t, looked, has, out)
	}
	assert.NotContains(t, looked, "<graphics")
	data, err := filepath.Glob(filepath.Join(site, "pool", "bms-tide-05.*.data-1.qcow2"))
	require.NoError(t, err)
	require.Len(t, data, 1)
	info, err := exec.Command("qemu-img", "info", "--output=json", data[0]).Output()
	require.NoError(t, err)
	var image struct {
		Actual int64 `json:"actual-size"`
	}
	require.NoError(t, json.Unmarshal(info, &image))
	assert.GreaterOrEqual(t, image.Actual, int64(64<<20))

	// A raw disk stays raw; its checkpoint goes on in another file, which retire
	// takes away with the rest.
	raw := filepath.Join(site, "templates", "plain.img")
	require.NoError(t, exec.Command("truncate", "-s", "64M", raw).Run())
	write(t, dir, "more.yaml", "mintbatch: 1\ntemplates: {plain: {guest: linux, answers: none, volume: templates/plain.img, hardware: {emulator: qemu}}}\ndefaults: {login: \"\", keys: \"\"}\n")
	write(t, dir, "machines.csv", "machine,template,clone,checkpoint,power\nbms-tide-06,plain,full,fresh,off\n")
	out = minted(t, dir, "--setup", "mintbatch.yaml", "--setup", "more.yaml", "bms-tide-06")
	sparse, err := filepath.Glob(filepath.Join(site, "pool", "bms-tide-06.*.disk.img"))
	require.NoError(t, err)
	require.Len(t, sparse, 1, out)
	blocks, err := exec.Command("stat", "-c", "%b", sparse[0]).Output()
	require.NoError(t, err)
	assert.Equal(t, "0", strings.TrimSpace(string(blocks)), "its holes are holes")
	out, err = command(t, dir, "mintbatch", "retire", "--yes", "bms-tide-06")
	require.NoError(t, err, out)
	left, err := filepath.Glob(filepath.Join(site, "pool", "bms-tide-06.*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	// A parent that has changed under its children is cloned from no more.
	parent := filepath.Join(site, "templates", "deb12-disk.qcow2")
	require.NoError(t, os.Chtimes(parent, time.Now(), time.Now()))
	write(t, dir, "machines.csv", string(rows)+"bms-tide-04,deb12-disk,linked,,off\n")
	out, err = command(t, dir, "mintbatch", "mint", "--yes")
	assert.Error(t, err)
	assert.Regexp(t, `its disk was changed after linked clones were made from it \(bms-tide-0[15] was\)`, out)
	require.NoError(t, os.Chmod(parent, 0o644))
	listed, err = command(t, dir, "mintbatch", "template", "list")
	require.NoError(t, err, listed)
	assert.Regexp(t, `deb12-disk .* refused: its disk was changed`, listed)
}

// The transports of libvirt's URIs: SSH through a server of its own, which must
// be known, and TLS with certificates on both sides.
func TestRealTransports(t *testing.T) {
	dir, _ := lab(t)
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "machines.csv", "machine,template,power\nbms-tide-01,deb12-disk,off\n")
	proves := func(url string) (string, error) {
		write(t, dir, "mintbatch.yaml", strings.Replace(string(setup), "qemu:///system", `"`+url+`"`, 1))
		return command(t, dir, "mintbatch", "proof")
	}
	port, known, key := sshServer(t)
	url := fmt.Sprintf("qemu+ssh://root@127.0.0.1:%s/system?keyfile=%s&socket=/run/libvirt/libvirt-sock&known_hosts=", port, key)
	out, err := proves(url + known)
	require.NoError(t, err, out)
	assert.Contains(t, out, "new 1")
	empty := filepath.Join(dir, "nobody")
	require.NoError(t, os.WriteFile(empty, nil, 0o600))
	out, err = proves(url + empty)
	assert.Error(t, err)
	assert.Contains(t, out, "the host's key is not in the known_hosts file")

	address, pki := tlsServer(t)
	out, err = proves("qemu+tls://" + address + "/system?pkipath=" + pki)
	require.NoError(t, err, out)
	assert.Contains(t, out, "new 1")
	_, others := tlsServer(t)
	out, err = proves("qemu+tls://" + address + "/system?pkipath=" + others)
	assert.Error(t, err)
	assert.Contains(t, out, "certificate")
}

// sshServer runs a real SSH server on loopback that knows one key.
func sshServer(t *testing.T) (port, known, key string) {
	t.Helper()
	dir := t.TempDir()
	for _, name := range []string{"host", "user"} {
		require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, name)).Run())
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, err = net.SplitHostPort(free.Addr().String())
	require.NoError(t, err)
	require.NoError(t, free.Close())
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	write(t, dir, "config", fmt.Sprintf("Port %s\nListenAddress 127.0.0.1\nHostKey %[2]s/host\nAuthorizedKeysFile %[2]s/user.pub\nStrictModes no\nUsePAM no\nPermitRootLogin yes\nPidFile none\n", port, dir))
	server := exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(dir, "config"))
	require.NoError(t, server.Start())
	t.Cleanup(func() { _ = server.Process.Kill(); _ = server.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
	public, err := os.ReadFile(filepath.Join(dir, "host.pub"))
	require.NoError(t, err)
	write(t, dir, "known_hosts", "[127.0.0.1]:"+port+" "+string(public))
	return port, filepath.Join(dir, "known_hosts"), filepath.Join(dir, "user")
}

// tlsServer stands before the daemon's socket as its own TLS port does: it wants
// a client's certificate and says with one byte that it has accepted it.
func tlsServer(t *testing.T) (address, pki string) {
	t.Helper()
	pki = t.TempDir()
	authority, authorityKey := certificate(t, nil, nil, &x509.Certificate{IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign})
	server, serverKey := certificate(t, authority, authorityKey, &x509.Certificate{IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}})
	client, clientKey := certificate(t, authority, authorityKey, &x509.Certificate{ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
	private, err := x509.MarshalPKCS8PrivateKey(clientKey)
	require.NoError(t, err)
	for name, block := range map[string]*pem.Block{"cacert.pem": {Type: "CERTIFICATE", Bytes: authority.Raw}, "clientcert.pem": {Type: "CERTIFICATE", Bytes: client.Raw}, "clientkey.pem": {Type: "PRIVATE KEY", Bytes: private}} {
		write(t, pki, name, string(pem.EncodeToMemory(block)))
	}
	trusted := x509.NewCertPool()
	trusted.AddCert(authority)
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: trusted,
		Certificates: []tls.Certificate{{Certificate: [][]byte{server.Raw}, PrivateKey: serverKey}}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				if err := c.(*tls.Conn).Handshake(); err != nil {
					return
				}
				daemon, err := net.Dial("unix", "/run/libvirt/libvirt-sock")
				if err != nil {
					return
				}
				defer daemon.Close()
				_, _ = c.Write([]byte{1})
				go func() { _, _ = io.Copy(daemon, c) }()
				_, _ = io.Copy(c, daemon)
			}()
		}
	}()
	return l.Addr().String(), pki
}

// certificate signs one; without an authority, by itself.
func certificate(t *testing.T, by *x509.Certificate, byKey *ecdsa.PrivateKey, template *x509.Certificate) (*x509.Certificate, *ecdsa.PrivateKey) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template.SerialNumber, template.NotBefore, template.NotAfter = big.NewInt(time.Now().UnixNano()), time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
	if by == nil {
		by, byKey = template, key
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, by, &key.PublicKey, byKey)
	require.NoError(t, err)
	made, err := x509.ParseCertificate(raw)
	require.NoError(t, err)
	return made, key
}

// writeDomain writes the description of a machine that is none of ours.
func writeDomain(t *testing.T, name, disk string) string {
	t.Helper()
	device := ""
	if disk != "" {
		device = "<disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='" + disk + "'/><target dev='vda' bus='virtio'/></disk>"
	}
	path := filepath.Join(t.TempDir(), name+".xml")
	require.NoError(t, os.WriteFile(path, []byte("<domain type='qemu'><name>"+name+"</name><memory unit='MiB'>64</memory><vcpu>1</vcpu>"+
		"<os><type arch='x86_64' machine='pc'>hvm</type></os><devices>"+device+"</devices></domain>"), 0o600))
	return path
}
