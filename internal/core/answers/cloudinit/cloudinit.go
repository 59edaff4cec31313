// Package cloudinit writes the answers that cloud-init reads from a NoCloud
// seed: meta-data, user-data and network-config. What it writes is valid for
// cloud-init 22.4 and everything newer.
package cloudinit

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
)

// Label is the volume label by which cloud-init finds a NoCloud seed.
const Label = "cidata"

// Files writes the answers of a machine. The same input gives the same bytes.
func Files(in answers.Input) []answers.File {
	return []answers.File{
		{Name: "meta-data", Content: MetaData(in)},
		{Name: "network-config", Content: NetworkConfig(in)},
		{Name: "user-data", Content: UserData(in)},
	}
}

// MetaData is the instance's id and host name.
func MetaData(in answers.Input) []byte {
	var m mapping
	m.add("instance-id", in.Instance)
	m.add("local-hostname", in.Guest.Hostname)
	return m.encode()
}

// NetworkConfig configures the adapters.
func NetworkConfig(in answers.Input) []byte { return networkConfig(in.Adapters, in.Guest.Whole().Wait) }

// UserData is the cloud-config of the machine, joined with the user's own parts.
func UserData(in answers.Input) []byte {
	in.Guest = in.Guest.Whole()
	own := append([]byte("#cloud-config\n"), cloudConfig(in).encode()...)
	if len(in.Guest.Userdata) == 0 {
		return own
	}
	return joined(string(own), in.Guest.Userdata)
}

func cloudConfig(in answers.Input) mapping {
	g := in.Guest
	var m mapping
	m.add("hostname", g.Hostname)
	m.add("fqdn", g.FQDN())
	m.add("preserve_hostname", false)
	m.add("prefer_fqdn_over_hostname", false)
	// `localhost` adds the guest's own name to /etc/hosts and keeps the rest.
	m.add("manage_etc_hosts", "localhost")
	m.add("timezone", g.Timezone)
	// Without a word of it cloud-init would set one of its own choice, which a
	// small guest may not have.
	m.add("locale", cmp.Or(g.Locale, "false"))
	if g.Keyboard != "" {
		m.add("keyboard", mapping{{"layout", g.Keyboard}})
	}
	logins(&m, g, in.Secrets)
	m.add("ssh_deletekeys", true)
	keys := mapping{{"ed25519_private", in.Secrets.HostKeyPrivate}, {"ed25519_public", in.Secrets.HostKeyPublic}}
	keys.add("ed25519_certificate", in.Secrets.HostCertificate)
	m.add("ssh_keys", keys)
	if len(g.NTP) > 0 {
		m.add("ntp", mapping{{"enabled", true}, {"servers", g.NTP}})
	}
	m.add("ca_certs", texts("trusted", []string(g.Trust)))
	packages(&m, g)
	disks(&m, g)
	m.add("write_files", files(in))
	m.add("bootcmd", early(in))
	commands := g.Commands
	if g.Joins != "" {
		commands = append([]string{joinCommand(g)}, commands...)
	}
	if in.Home != "" {
		commands = append([]string{callService.start()}, commands...)
	}
	if len(g.Stages) > 0 {
		commands = append(slices.Clip(commands), stagesService.start())
	}
	m.add("runcmd", commands)
	if g.End != "" {
		m.add("power_state", mapping{{"mode", strings.ReplaceAll(string(g.End), "-", "")}, {"delay", "now"}})
	}
	return m
}

// texts is a mapping with one list, or with nothing.
func texts(key string, list []string) mapping {
	var m mapping
	m.add(key, list)
	return m
}

func logins(m *mapping, g machine.Guest, s answers.Secrets) {
	var users, expired []mapping
	passwords := false
	for _, a := range g.Accounts() {
		users = append(users, user(a, s))
		if hash := s.Hashes[a.User]; hash != "" {
			passwords = true
			if a.Expire.Or(false) {
				expired = append(expired, mapping{{"name", a.User}, {"type", "hash"}, {"password", hash}})
			}
		}
	}
	m.add("users", users)
	if expired != nil {
		m.add("chpasswd", mapping{{"expire", true}, {"users", expired}})
	}
	m.add("ssh_pwauth", g.SSH.Passwords.Or(passwords))
	m.add("disable_root", g.SSH.Root == "" || g.SSH.Root == "off")
}

func user(a machine.Account, s answers.Secrets) mapping {
	var u mapping
	u.add("name", a.User)
	u.add("gecos", a.Name)
	u.add("shell", cmp.Or(a.Shell, "/bin/bash"))
	groups, sudo := a.Groups, a.Sudo
	if a.Main {
		if groups == nil {
			groups = []string{"sudo"}
		}
		if sudo == "" {
			sudo = map[bool]string{true: "nopasswd", false: "password"}[a.Password == machine.NoPassword]
		}
	}
	u.add("groups", groups)
	if hash := s.Hashes[a.User]; hash != "" {
		// hashed_passwd, unlike passwd, also counts for a login that the
		// template already has.
		u.add("lock_passwd", a.Locked.Or(false))
		u.add("hashed_passwd", hash)
	} else {
		u.add("lock_passwd", a.Locked.Or(true))
	}
	rules := map[string]string{"password": "ALL=(ALL:ALL) ALL", "nopasswd": "ALL=(ALL:ALL) NOPASSWD:ALL", "none": ""}
	if rule, known := rules[sudo]; known {
		sudo = rule
	}
	u.add("sudo", sudo)
	u.add("ssh_authorized_keys", []string(a.Keys))
	return u
}

func packages(m *mapping, g machine.Guest) {
	var sources, repositories mapping
	for _, s := range g.Sources {
		if s.Apt != "" {
			var e mapping
			e.add("source", s.Apt)
			e.add("key", s.Key)
			sources.add(s.Name, e)
			continue
		}
		e := mapping{{"name", s.Name}, {"baseurl", s.Yum}, {"enabled", true}, {"gpgcheck", s.Key != ""}}
		if s.Key != "" {
			e.add("gpgkey", "file://"+keyFile(s))
		}
		repositories.add(s.Name, e)
	}
	var apt mapping
	apt.add("sources", sources)
	apt.add("http_proxy", g.Proxy)
	apt.add("https_proxy", g.Proxy)
	m.add("apt", apt)
	m.add("yum_repos", repositories)
	m.add("package_update", len(g.Packages) > 0 || len(g.Sources) > 0 || g.Update.Or(false))
	if g.Update.Or(false) {
		m.add("package_upgrade", true)
	}
	m.add("packages", g.Packages)
}

func keyFile(s machine.Source) string { return "/etc/pki/rpm-gpg/RPM-GPG-KEY-" + s.Name }

func disks(m *mapping, g machine.Guest) {
	if g.Grow != "" {
		m.add("growpart", mapping{{"mode", map[bool]string{true: "auto", false: "off"}[g.Grow.Or(true)]}, {"devices", []string{"/"}}})
		m.add("resize_rootfs", g.Grow.Or(true))
	}
	if g.Swap > 0 {
		m.add("swap", mapping{{"filename", "/swap.img"}, {"size", int64(g.Swap)}, {"maxsize", int64(g.Swap)}})
	}
}

// files are those of the row, and those by which other settings are carried.
func files(in answers.Input) []mapping {
	g := in.Guest
	var all []mapping
	add := func(path, content, mode, owner string) {
		f := mapping{{"path", path}}
		// A literal block or quoted text carries all that is text; the rest goes
		// as cloud-init's own encoding.
		if !utf8.ValidString(content) || strings.ContainsRune(content, 0) {
			f.add("encoding", "b64")
			content = base64.StdEncoding.EncodeToString([]byte(content))
		}
		f = append(f, pair{"content", content})
		f.add("permissions", mode)
		f.add("owner", owner)
		all = append(all, f)
	}
	if g.Joins != "" {
		add(accountFile, in.Secrets.Account, "0600", "")
	}
	if in.DropSeed {
		add("/etc/systemd/system/cloud-init-local.service.d/10-new-seed.conf", newSeed, "0644", "")
	}
	if names := withoutIPv6(in.Adapters); len(names) > 0 {
		var b strings.Builder
		for _, name := range names {
			fmt.Fprintf(&b, "net.ipv6.conf.%s.disable_ipv6 = 1\n", name)
		}
		add("/etc/sysctl.d/60-no-ipv6.conf", b.String(), "0644", "")
		// systemd-networkd switches IPv6 on again at each boot where it is to have an address
		// of the link; the files that it reads are netplan's, or cloud-init's own.
		for i, a := range in.Adapters {
			for _, by := range []string{"netplan", "cloud-init"} {
				if a.NoIPv6 {
					add(fmt.Sprintf("/etc/systemd/network/10-%s-adapter%d.network.d/60-no-ipv6.conf", by, i+1), "[Network]\nLinkLocalAddressing=no\nIPv6AcceptRA=no\n", "0644", "")
				}
			}
		}
	}
	if len(g.Stages) > 0 {
		stages(g.Stages, g.Login, add)
	}
	if in.Home != "" {
		call(in.Home, add)
	}
	if g.SSH.Root != "" || g.SSH.Authority != nil {
		var b strings.Builder
		if g.SSH.Root != "" {
			fmt.Fprintf(&b, "PermitRootLogin %s\n", map[machine.RootLogin]string{machine.RootOff: "no", machine.RootKeys: "prohibit-password", machine.RootOn: "yes"}[g.SSH.Root])
		}
		if g.SSH.Authority != nil {
			b.WriteString("TrustedUserCAKeys /etc/ssh/user_authorities.pub\n")
			add("/etc/ssh/user_authorities.pub", strings.Join(g.SSH.Authority, "\n")+"\n", "0644", "")
		}
		add("/etc/ssh/sshd_config.d/10-logins.conf", b.String(), "0644", "")
	}
	if g.Proxy != "" {
		var b strings.Builder
		for _, name := range []string{"http_proxy", "https_proxy", "HTTP_PROXY", "HTTPS_PROXY"} {
			fmt.Fprintf(&b, "%s=%q\n", name, g.Proxy)
		}
		if g.NoProxy != nil {
			fmt.Fprintf(&b, "no_proxy=%[1]q\nNO_PROXY=%[1]q\n", strings.Join(g.NoProxy, ","))
		}
		add("/etc/environment", b.String(), "0644", "")
		all[len(all)-1].add("append", true)
	}
	for _, s := range g.Sources {
		if s.Yum != "" && s.Key != "" {
			add(keyFile(s), s.Key+"\n", "0644", "")
		}
	}
	for _, f := range g.Files {
		mode := f.Mode
		if len(mode) == 3 {
			mode = "0" + mode
		}
		add(f.Path, string(f.Content()), mode, f.Owner)
	}
	return all
}

// withoutIPv6 lists the adapters in which IPv6 is to be off. Where it is off in
// all of them, it is off in those that come later, too.
func withoutIPv6(adapters []machine.Adapter) []string {
	var names []string
	for i, a := range adapters {
		if a.NoIPv6 {
			names = append(names, fmt.Sprintf("adapter%d", i+1))
		}
	}
	if len(names) > 0 && len(names) == len(adapters) {
		names = append([]string{"all", "default"}, names...)
	}
	return names
}

// early are the commands before anything else.
func early(in answers.Input) []string {
	g := in.Guest
	var all []string
	for _, name := range withoutIPv6(in.Adapters) {
		all = append(all, fmt.Sprintf("sysctl -q -w net.ipv6.conf.%s.disable_ipv6=1", name))
	}
	if len(g.Carry) > 0 { // for as long as it is there
		all = append(all, "d=/run/mintbatch/carry; mkdir -p $d; mountpoint -q $d || mount -o ro LABEL=CARRY $d 2>/dev/null || true")
	}
	if g.Proxy != "" {
		line := answers.ShellQuoted("proxy=" + g.Proxy)
		all = append(all, "for f in /etc/dnf/dnf.conf /etc/yum.conf; do [ ! -f $f ] || grep -q ^proxy= $f || echo "+line+" >> $f; done")
	}
	for _, v := range slices.SortedFunc(slices.Values(g.Volumes), func(a, b machine.Volume) int { return a.Disk - b.Disk }) {
		all = append(all, fmt.Sprintf("cloud-init-per instance data-%d sh -ec %s\n", v.Disk, answers.ShellQuoted(volumeScript(v))))
	}
	if in.DropSeed {
		all = append(all, ": > "+trusted)
	}
	return append(append(all, ownMachineID), g.Early...)
}

// trusted is the file by which cloud-init keeps the instance that it has stored, also where
// there is no seed any more.
const trusted = "/var/lib/cloud/instance/manual-clean"

// newSeed lets a guest that has such a file read a seed all the same, if it gets one, as a
// clone of it does. That file has kept cloud-init from finding out where its answers are.
const newSeed = `[Unit]
After=systemd-udev-trigger.service

[Service]
ExecStartPre=-/bin/sh -c '[ -e ` + trusted + ` ] || exit 0; \
  udevadm settle -t 10; blkid -c /dev/null -t LABEL=` + Label + ` -o device >/dev/null || exit 0; \
  rm -f ` + trusted + `; mkdir -p /run/cloud-init; echo "datasource_list: [NoCloud, None]" >/run/cloud-init/cloud.cfg'
`

// ownMachineID gives a guest a machine id of its own where its template has left one
// behind for D-Bus, from which systemd makes that of every clone, and where the disk was
// another instance before.
const ownMachineID = `cloud-init-per instance machine-id sh -c 'd=/var/lib/dbus/machine-id; set -- /var/lib/cloud/instances/*
[ -n "$2" ] || { [ -f $d ] && [ ! -L $d ] && cmp -s $d /etc/machine-id; } || exit 0
rm -f $d /etc/machine-id && systemd-machine-id-setup && { [ ! -d /var/lib/dbus ] || ln -s /etc/machine-id $d; }'
`
