package inspect

import (
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/disk"
)

// plant writes files of a guest: a name that ends with a slash is a folder, content that begins
// with -> a link.
func plant(t *testing.T, root string, files ...string) {
	t.Helper()
	for i := 0; i < len(files); i += 2 {
		at := filepath.Join(root, files[i])
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		if to, is := strings.CutPrefix(files[i+1], "->"); is {
			require.NoError(t, os.Symlink(to, at))
			continue
		}
		require.NoError(t, os.WriteFile(at, []byte(files[i+1]), 0o644))
	}
}

const elf = "\x7fELF\x02\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x03\x00\x3e\x00"

// master is a Debian system of which nothing is left.
func master(t *testing.T) string {
	t.Helper()
	root := t.TempDir()
	plant(t, root, "usr/lib/os-release", "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\nVERSION_ID=\"12\"\n", "etc/os-release", "->../usr/lib/os-release",
		"usr/lib/python3/dist-packages/cloudinit/version.py", "__VERSION__ = \"22.4.2\"\n", "etc/cloud/cloud.cfg", "cloud_init_modules: [bootcmd, write-files, users-groups, ssh]\ncloud_config_modules: [runcmd, [set-passwords, always]]\n",
		"etc/cloud/cloud.cfg.d/90_dpkg.cfg", "datasource_list: [ NoCloud, None ]\n", "usr/sbin/qemu-ga", elf, "usr/sbin/sshd", elf, "usr/bin/sudo", elf, "usr/bin/growpart", elf,
		"usr/bin/dash", elf, "usr/bin/sh", "->dash", "bin", "->usr/bin", "lib", "->usr/lib", "sbin", "->usr/sbin", "usr/lib/systemd/systemd", elf, "usr/sbin/init", "->/lib/systemd/systemd",
		"boot/vmlinuz-6.1.0-28-amd64", elf, "etc/fstab", "/dev/vda1 / ext4 defaults 0 1\n", "etc/shadow", "root:*:20000::::::\ndebian:!$6$x$y:20000::::::\n", "etc/machine-id", "", "var/lib/dbus/machine-id", "->/etc/machine-id",
		"etc/network/interfaces", "auto lo\niface lo inet loopback\n", "etc/hosts", "127.0.0.1 localhost\n", "etc/hostname", "localhost\n")
	return root
}

func image(t *testing.T, root string, how ...string) disk.Disk {
	t.Helper()
	if _, err := exec.LookPath("mke2fs"); err != nil {
		t.Skip("skipped: mke2fs is not installed")
	}
	at := filepath.Join(t.TempDir(), "image")
	require.NoError(t, os.WriteFile(at, nil, 0o600))
	require.NoError(t, os.Truncate(at, 16<<20))
	out, err := exec.Command("mke2fs", append([]string{"-q", "-t", "ext4", "-d", root, at}, how...)...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	content, err := os.ReadFile(at)
	require.NoError(t, err)
	return disk.Disk{ReaderAt: bytes.NewReader(content), Size: int64(len(content))}
}

func look(t *testing.T, d disk.Disk) (*Inspection, map[string]Leftover) {
	t.Helper()
	i, err := Of(d)
	require.NoError(t, err)
	found := map[string]Leftover{}
	for _, l := range i.Leftovers {
		found[l.Code] = l
	}
	return i, found
}

// What is planted is found, where it is, and nothing else is.
func TestLeftovers(t *testing.T) {
	i, found := look(t, image(t, master(t)))
	assert.Empty(t, found, "a clean master")
	assert.Equal(t, System{Kind: Linux, Name: "Debian GNU/Linux 12 (bookworm)", ID: "debian", Version: "12", Architecture: "x86_64", Kernels: []string{"6.1.0-28-amd64"}, Init: "systemd", Boot: []string{},
		CloudInit: &CloudInit{Version: "22.4.2", Sources: []string{"NoCloud", "None"}}, Agent: "/usr/sbin/qemu-ga", SSH: "/usr/sbin/sshd", Sudo: "/usr/bin/sudo", GrowPart: "/usr/bin/growpart"}, i.System)

	const debian = "debian:$6$salt$IxDD3jeSOb5eB1CX5LBsqZFVkJdido3OUILO5Ifz5iwMuTS4XMS130MTSuDDl3aCI6WouIL9AjRbLCelDCy.g.:20000::::::\n" // password
	for _, c := range []struct{ code, at, content string }{
		{"left-ssh-host-keys", "/etc/ssh/ssh_host_rsa_key", "key"},
		{"left-ssh-host-keys", "/etc/ssh/ssh_host_ed25519_key", "key"},
		{"left-machine-id", "/etc/machine-id", "0123456789abcdef0123456789abcdef\n"},
		{"left-dbus-id", "/var/lib/dbus/machine-id", "0123456789abcdef0123456789abcdef\n"},
		{"left-random-seed", "/var/lib/systemd/random-seed", "seed"},
		{"left-dhcp-leases", "/var/lib/dhcp/dhclient.eth0.leases", "lease {}"},
		{"left-dhcp-leases", "/var/lib/NetworkManager/internal-x-eth0.lease", "lease"},
		{"left-interface-names", "/etc/udev/rules.d/70-persistent-net.rules", "SUBSYSTEM"},
		{"left-cloud-instance", "/var/lib/cloud/instances/iid-1/user-data.txt", "password: x"},
		{"left-cloud-seed", "/var/lib/cloud/seed/nocloud/meta-data", "instance-id: x"},
		{"left-static-network", "/etc/netplan/50-cloud-init.yaml", "network:\n  ethernets:\n    eth0:\n      addresses: [198.51.100.9/24]\n"},
		{"left-static-network", "/etc/network/interfaces.d/eth0", "iface eth0 inet static\n address 198.51.100.9/24\n"},
		{"left-static-network", "/etc/NetworkManager/system-connections/eth0.nmconnection", "[ipv4]\naddress1=198.51.100.9/24\n"},
		{"left-static-network", "/etc/sysconfig/network-scripts/ifcfg-eth0", "HWADDR=02:00:00:00:00:01\n"},
		{"left-static-network", "/etc/systemd/network/10-eth0.network", "[Network]\nAddress=198.51.100.9/24\n"},
		{"left-network-state", "/var/lib/NetworkManager/secret_key", "key"},
		{"left-storage-names", "/etc/iscsi/initiatorname.iscsi", "InitiatorName=iqn"},
		{"left-storage-names", "/etc/lvm/devices/system.devices", "IDTYPE=sys_serial"},
		{"left-subscription", "/etc/pki/consumer/cert.pem", "cert"},
		{"left-managed-identity", "/etc/salt/minion_id", "bms-tide-01"},
		{"left-domain-member", "/etc/krb5.keytab", "key"},
		{"left-host-name", "/etc/hostname", "bms-tide-01\n"},
		{"left-hosts", "/etc/hosts", "127.0.0.1 localhost\n127.0.1.1 bms-tide-01\n"},
		{"left-empty-password", "debian", "/etc/shadow:debian::20000::::::\n"},
		{"left-known-password", "debian", "/etc/shadow:" + strings.Repeat("system:*:20000::::::\n", 40) + debian},
		{"left-passwords", "tide", "/etc/shadow:tide:" + strings.TrimPrefix(debian, "debian:")[:30] + "x" + strings.TrimPrefix(debian, "debian:")[31:]},
		{"left-private-keys", "/root/.ssh/id_ed25519", "key"},
		{"left-private-keys", "/home/debian/.ssh/id_rsa", "key"},
		{"left-authorized-keys", "/home/debian/.ssh/authorized_keys", "ssh-ed25519 AAAA"},
		{"left-known-hosts", "/root/.ssh/known_hosts", "host"},
		{"left-credentials", "/root/.netrc", "machine x password y"},
		{"left-tls-keys", "/etc/ssl/private/ssl-cert.key", "key"},
		{"left-installer-answers", "/root/anaconda-ks.cfg", "rootpw x"},
		{"left-shell-history", "/root/.bash_history", "passwd"},
		{"left-shell-history", "/home/debian/.python_history", "1+1"},
		{"left-mail", "/var/mail/debian", "From root"},
		{"left-logs", "/var/log/apt/history.log", "apt"},
		{"left-logs", "/var/log/journal/0123/system.journal", "LPKSHHRH"},
		{"left-crash-dumps", "/var/crash/_usr_bin_x.0.crash", "dump"},
		{"left-package-cache", "/var/cache/apt/archives/chrony_4.3_amd64.deb", "deb"},
		{"left-temporary-files", "/var/tmp/a/b", "x"},
		{"left-volume-history", "/etc/lvm/archive/brackwater_0.vg", "vg"},
		{"left-containers", "/var/lib/docker/containers/abc/config.v2.json", "{}"},
		{"cloud-init-disabled", "/etc/cloud/cloud-init.disabled", ""},
		{"cloud-init-disabled", "/etc/default/grub", "GRUB_CMDLINE_LINUX=\"cloud-init=disabled\"\n"},
		{"no-nocloud", "/etc/cloud/cloud.cfg.d/95.cfg", "datasource_list: [Ec2]\n"},
		{"lacks-modules", "runcmd", "/etc/cloud/cloud.cfg:cloud_init_modules: [bootcmd, write_files, users-groups, ssh, set-passwords]\n"},
	} {
		root := master(t)
		file, content := c.at, c.content
		if in, text, is := strings.Cut(content, ":"); is && strings.HasPrefix(in, "/etc/") {
			file, content = in, text
		}
		_ = os.Remove(filepath.Join(root, file))
		plant(t, root, file, content)
		i, found := look(t, image(t, root))
		if assert.Len(t, found, 1, "%s at %s: %v", c.code, c.at, found) && assert.Contains(t, found, c.code) {
			assert.Equal(t, []string{c.at}, found[c.code].Where)
			assert.Less(t, i.Read, int64(4<<20))
		}
	}
	for code, file := range map[string]string{"no-agent": "usr/sbin/qemu-ga", "no-growpart": "usr/bin/growpart", "no-ssh": "usr/sbin/sshd", "no-cloud-init": "usr/lib/python3/dist-packages/cloudinit/version.py", "no-system": "usr/lib/os-release"} {
		root := master(t)
		require.NoError(t, os.Remove(filepath.Join(root, file)))
		if code == "no-system" {
			require.NoError(t, os.Remove(filepath.Join(root, "etc/os-release")))
		}
		_, found := look(t, image(t, root))
		assert.Len(t, found, 1)
		assert.Contains(t, found, code)
	}
}

// Links of a guest lead about in the guest, and never out of it or for ever.
func TestLinks(t *testing.T) {
	root := master(t)
	plant(t, root, "etc/ssh/ssh_host_a_key", "->../../../../../../etc/hosts", "etc/ssh/ssh_host_b_key", "->ssh_host_b_key", "etc/ssh/ssh_host_c_key", "->/nowhere", "var/log/round", "->/var/log", "tmp", "->/var/tmp", "var/tmp/x", "x")
	_, found := look(t, image(t, root))
	assert.Equal(t, []string{"/etc/ssh/ssh_host_a_key"}, found["left-ssh-host-keys"].Where)
	assert.NotContains(t, found, "left-logs")
	assert.Contains(t, found, "left-temporary-files")
}

// What is damaged is named.
func TestDamagedDisks(t *testing.T) {
	d := image(t, master(t))
	content := make([]byte, d.Size)
	_, err := d.ReadAt(content, 0)
	require.NoError(t, err)
	whole := slices.Clone(content)
	clear(content[4096:200_000])
	_, found := look(t, disk.Disk{ReaderAt: bytes.NewReader(content), Size: d.Size})
	assert.Contains(t, found, "unreadable")
	assert.Contains(t, found, "no-system")
	_, found = look(t, disk.Disk{ReaderAt: bytes.NewReader(whole[:64<<10]), Size: 64 << 10})
	assert.Contains(t, found, "no-system")
	_, err = Of(disk.Disk{ReaderAt: bytes.NewReader(nil), Size: 0})
	assert.ErrorContains(t, err, "cannot be read")
	encrypted := append([]byte("LUKS\xba\xbe"), make([]byte, 1<<16)...)
	i, found := look(t, disk.Disk{ReaderAt: bytes.NewReader(encrypted), Size: int64(len(encrypted))})
	assert.Equal(t, "luks (encrypted)", i.Volumes[0].FileSystem)
	assert.Equal(t, []string{"disk (encrypted)"}, found["no-system"].Where)
}

// A Windows disk, with a registry that hivex has written: its system, and what is left on it.
func TestWindows(t *testing.T) {
	packed, err := os.Open("../disk/testdata/ntfs.gz")
	require.NoError(t, err)
	defer packed.Close()
	r, err := gzip.NewReader(packed)
	require.NoError(t, err)
	content, err := io.ReadAll(r)
	require.NoError(t, err)
	i, found := look(t, disk.Disk{ReaderAt: bytes.NewReader(content), Size: int64(len(content))})
	assert.Equal(t, System{Kind: Windows, Name: "Windows Server 2022 Standard", ID: "ServerStandard", Version: "20348.2700", Boot: []string{}, Agent: "/Program Files/Qemu-ga/qemu-ga.exe", Drivers: []string{"vioscsi"}, Generalized: true}, i.System)
	assert.Len(t, found, 1)
	assert.Equal(t, []string{"/Windows/Panther/unattend.xml"}, found["left-answer-file"].Where)

	wide := func(text string) []byte {
		return bytes.ReplaceAll([]byte(strings.Join(strings.Split(text, ""), "\x00")+"\x00"), []byte(" "), []byte{0})
	}
	was, is := wide("IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE"), wide("IMAGE_STATE_COMPLETE                 ")
	require.Equal(t, len(was), len(is))
	content = bytes.ReplaceAll(content, was, is)
	i, found = look(t, disk.Disk{ReaderAt: bytes.NewReader(content), Size: int64(len(content))})
	assert.False(t, i.System.Generalized)
	assert.Equal(t, []string{"IMAGE_STATE_COMPLETE"}, found["not-generalized"].Where)
}
