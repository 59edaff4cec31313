package inspect

import (
	"slices"
	"strings"

	"mintbatch/internal/core/finding"
)

// Check is a kind of left-over, or of something that clones need.
type Check struct {
	Severity finding.Severity
	Code     string
	Text     string
	Remedy   string
	// paths are the patterns of files whose being there is what is looked for, but for those that
	// match except; of a file that is empty, nothing is left.
	paths, except []string
	// says reports whether the content of such a file is what is looked for; nil if any is.
	says func(text string) bool
}

// mostWhere is how many places are told.
const mostWhere = 5

// add tells what a check has found. Where it was found decides how often that is.
func (i *Inspection) add(code string, where ...string) {
	at := slices.IndexFunc(Checks, func(c Check) bool { return c.Code == code })
	c := Checks[at]
	for n, l := range i.Leftovers {
		if l.Code == code {
			i.Leftovers[n].Count += len(where)
			i.Leftovers[n].Where = append(l.Where, where[:min(len(where), max(0, mostWhere-len(l.Where)))]...)
			return
		}
	}
	i.Leftovers = append(i.Leftovers, Leftover{Severity: c.Severity, Code: c.Code, Text: c.Text, Remedy: c.Remedy, Where: where[:min(len(where), mostWhere)], Count: len(where)})
}

// files looks for the files of the checks.
func (i *Inspection) files(g *guest) {
	for _, c := range Checks {
		var where []string
		for _, pattern := range c.paths {
			for _, name := range g.glob(pattern) {
				if strings.HasSuffix(name, "/") || !g.is(name) || slices.ContainsFunc(c.except, func(e string) bool { return strings.Contains(name, e) }) || slices.Contains(where, name) {
					continue
				}
				if c.says == nil || c.says(g.text(name)) {
					where = append(where, name)
				}
			}
		}
		if len(where) > 0 {
			i.add(c.Code, where...)
		}
	}
}

// homes are patterns below the homes of people.
func homes(names ...string) []string {
	var all []string
	for _, n := range names {
		all = append(all, "/root/"+n, "/home/*/"+n)
	}
	return all
}

func oneOf(parts ...string) func(string) bool {
	return func(text string) bool {
		return slices.ContainsFunc(lines(text), func(line string) bool {
			return slices.ContainsFunc(parts, func(p string) bool { return strings.Contains(line, p) })
		})
	}
}

// Checks lists everything that is looked for.
var Checks = []Check{
	{Severity: finding.Error, Code: "no-system", Text: "no system was found on the disk", Remedy: "check that it is the disk that the guest boots from, and that it can be read"},
	{Severity: finding.Warning, Code: "unreadable", Text: "a part of the disk cannot be read", Remedy: "check the file system in a guest; encrypted volumes and btrfs are not read"},
	{Severity: finding.Warning, Code: "unclean", Text: "the file system was not unmounted: what was written last may be missing", Remedy: "start the guest and shut it down"},

	// What clones need.
	{Severity: finding.Warning, Code: "no-cloud-init", Text: "there is no cloud-init, so clones do not read their answers", Remedy: "install cloud-init"},
	{Severity: finding.Error, Code: "cloud-init-disabled", Text: "cloud-init is disabled, so clones do not read their answers", Remedy: "remove what disables it"},
	{Severity: finding.Error, Code: "no-nocloud", Text: "cloud-init may not use the data source NoCloud, from which clones read their answers", Remedy: "add NoCloud to datasource_list"},
	{Severity: finding.Warning, Code: "lacks-modules", Text: "cloud-init does not run modules that answers need", Remedy: "add them to the modules of /etc/cloud/cloud.cfg"},
	{Severity: finding.Warning, Code: "no-agent", Text: "there is no guest agent, so clones cannot be confirmed by their site", Remedy: "install qemu-guest-agent, or write confirm: call-home in the preset"},
	{Severity: finding.Warning, Code: "no-growpart", Text: "the root file system does not grow with the disk", Remedy: "install cloud-guest-utils (growpart)"},
	{Severity: finding.Note, Code: "no-ssh", Text: "there is no SSH server", Remedy: "install one, if people are to log in"},

	// Identity.
	{Severity: finding.Error, Code: "left-ssh-host-keys", Text: "SSH host keys: whoever has one clone can pose as the others", Remedy: "delete them; each guest makes its own", paths: []string{"/etc/ssh/ssh_host_*_key"}},
	{Severity: finding.Error, Code: "left-machine-id", Text: "a machine id: clones share it, and DHCP servers may give them one address", Remedy: "empty /etc/machine-id", paths: []string{"/etc/machine-id"},
		says: func(text string) bool {
			return strings.TrimSpace(text) != "uninitialized" && strings.TrimSpace(text) != ""
		}},
	{Severity: finding.Error, Code: "left-dbus-id", Text: "the machine id of D-Bus, of which systemd makes that of the guest again", Remedy: "delete it, or make it a link to /etc/machine-id"},
	{Severity: finding.Error, Code: "left-cloud-instance", Text: "data of an earlier cloud-init instance, which may hold passwords", Remedy: "run cloud-init clean --logs", paths: []string{"/var/lib/cloud/instances/*/*", "/var/lib/cloud/data/previous-instance-id"}},
	{Severity: finding.Error, Code: "left-cloud-seed", Text: "a seed on the disk itself, which takes the place of that of the clone", Remedy: "delete it", paths: []string{"/var/lib/cloud/seed/*/*"}},
	{Severity: finding.Error, Code: "left-domain-member", Text: "keys of a domain member: clones would be one and the same member", Remedy: "leave the domain; let the answers join it", paths: []string{"/etc/krb5.keytab", "/var/lib/sss/db/*.ldb", "/var/lib/samba/private/secrets.tdb"}},
	{Severity: finding.Warning, Code: "left-random-seed", Text: "a random seed that clones would share", Remedy: "delete it", paths: []string{"/var/lib/systemd/random-seed", "/var/lib/urandom/random-seed", "/boot/efi/loader/random-seed", "/boot/loader/random-seed", "/efi/loader/random-seed"}},
	{Severity: finding.Warning, Code: "left-dhcp-leases", Text: "DHCP leases", Remedy: "delete them", paths: []string{"/var/lib/dhcp/*lease*", "/var/lib/dhclient/*lease*", "/var/lib/NetworkManager/*.lease", "/var/lib/dhcpcd/*.lease*", "/var/lib/wicked/lease*"}},
	{Severity: finding.Warning, Code: "left-interface-names", Text: "names of interfaces by the MAC addresses of another machine", Remedy: "delete the rule", paths: []string{"/etc/udev/rules.d/*persistent-net*", "/etc/systemd/network/*.link"}},
	{Severity: finding.Warning, Code: "left-static-network", Text: "a network configuration with addresses or MAC addresses of another machine", Remedy: "delete it; the answers configure the network",
		paths:  []string{"/etc/netplan/*.yaml", "/etc/network/interfaces", "/etc/network/interfaces.d/*", "/etc/NetworkManager/system-connections/*", "/etc/sysconfig/network-scripts/ifcfg-*", "/etc/systemd/network/*.network", "/etc/sysconfig/network/ifcfg-*"},
		except: []string{"/ifcfg-lo"},
		says:   oneOf("addresses:", "macaddress:", "inet static", "inet6 static", "address1=", "mac-address=", "IPADDR", "HWADDR", "Address=", "MACAddress=")},
	{Severity: finding.Warning, Code: "left-network-state", Text: "NetworkManager's own key and what it has seen", Remedy: "delete it", paths: []string{"/var/lib/NetworkManager/secret_key", "/var/lib/NetworkManager/seen-bssids", "/var/lib/NetworkManager/timestamps"}},
	{Severity: finding.Warning, Code: "left-storage-names", Text: "names by which storage tells machines apart", Remedy: "delete them; they are made again", paths: []string{"/etc/iscsi/initiatorname.iscsi", "/etc/nvme/hostid", "/etc/nvme/hostnqn", "/etc/lvm/devices/system.devices"}},
	{Severity: finding.Warning, Code: "left-subscription", Text: "the registration of another machine with its vendor", Remedy: "unregister it", paths: []string{"/etc/pki/consumer/cert.pem", "/var/lib/ubuntu-advantage/private/machine-token.json", "/etc/zypp/credentials.d/*"}},
	{Severity: finding.Warning, Code: "left-managed-identity", Text: "keys by which a manager of configurations knows another machine", Remedy: "delete them; they are made again",
		paths: []string{"/etc/salt/minion_id", "/etc/salt/pki/minion/minion.pem", "/etc/puppetlabs/puppet/ssl/private_keys/*", "/var/lib/puppet/ssl/private_keys/*", "/etc/chef/client.pem"}},
	{Severity: finding.Note, Code: "left-host-name", Text: "a host name", Remedy: "empty /etc/hostname", paths: []string{"/etc/hostname"},
		says: func(text string) bool {
			return !slices.Contains([]string{"", "localhost", "localhost.localdomain"}, strings.TrimSpace(text))
		}},
	{Severity: finding.Note, Code: "left-hosts", Text: "the name of another machine in /etc/hosts", Remedy: "delete the line of 127.0.1.1", paths: []string{"/etc/hosts"}, says: oneOf("127.0.1.1")},

	// Secrets.
	{Severity: finding.Error, Code: "left-empty-password", Text: "logins without a password", Remedy: "lock them: passwd -l NAME"},
	{Severity: finding.Error, Code: "left-known-password", Text: "logins with a password that everybody guesses", Remedy: "lock them: passwd -l NAME"},
	{Severity: finding.Warning, Code: "left-passwords", Text: "logins with passwords, which are those of all clones", Remedy: "lock them, or let the answers set others"},
	{Severity: finding.Error, Code: "left-private-keys", Text: "private SSH keys of people", Remedy: "delete them", paths: homes(".ssh/id_*"), except: []string{".pub"}},
	{Severity: finding.Error, Code: "left-credentials", Text: "saved credentials", Remedy: "delete them",
		paths: homes(".netrc", ".git-credentials", ".pgpass", ".my.cnf", ".aws/credentials", ".docker/config.json", ".kube/config", ".config/gcloud/credentials.db", ".azure/msal_token_cache.json")},
	{Severity: finding.Warning, Code: "left-authorized-keys", Text: "authorized SSH keys: whoever has one of them can log in to all clones", Remedy: "delete them; the answers bring those that are wanted", paths: homes(".ssh/authorized_keys", ".ssh/authorized_keys2")},
	{Severity: finding.Warning, Code: "left-tls-keys", Text: "private keys of servers", Remedy: "delete them, or make them on the first boot", paths: []string{"/etc/ssl/private/*", "/etc/pki/tls/private/*", "/etc/wireguard/*.conf", "/etc/openvpn/*.key", "/etc/openvpn/*/*.key", "/etc/letsencrypt/archive/*/privkey*"}},
	{Severity: finding.Warning, Code: "left-installer-answers", Text: "answers of the installer, which may hold passwords", Remedy: "delete them",
		paths: []string{"/root/anaconda-ks.cfg", "/root/original-ks.cfg", "/root/preseed.cfg", "/var/log/installer/autoinstall-user-data", "/var/log/installer/cdebconf/*", "/etc/cloud/cloud.cfg.d/99-installer.cfg", "/root/autoinst.xml", "/var/adm/autoinstall/cache/*"}},
	{Severity: finding.Warning, Code: "left-shell-history", Text: "what people have typed", Remedy: "delete it", paths: homes(".bash_history", ".zsh_history", ".history", ".python_history", ".mysql_history", ".psql_history", ".sqlite_history", ".lesshst", ".viminfo", ".local/share/fish/fish_history")},
	{Severity: finding.Note, Code: "left-known-hosts", Text: "SSH servers that people have connected to", Remedy: "delete it", paths: homes(".ssh/known_hosts")},

	// What only takes room, or tells of the past.
	{Severity: finding.Warning, Code: "left-mail", Text: "mail", Remedy: "delete it", paths: []string{"/var/mail/*", "/var/spool/mail/*"}},
	{Severity: finding.Error, Code: "left-hibernation", Text: "the memory of a system that hibernates: clones would go on with it", Remedy: "start the guest and shut it down"},
	{Severity: finding.Note, Code: "left-swap", Text: "a swap volume, which may hold parts of memory", Remedy: "write it anew: mkswap"},
	{Severity: finding.Note, Code: "left-logs", Text: "logs", Remedy: "empty them", paths: []string{"/var/log/**/*"}, except: []string{"/README"}},
	{Severity: finding.Note, Code: "left-crash-dumps", Text: "dumps of programs that have crashed, which hold what was in their memory", Remedy: "delete them", paths: []string{"/var/crash/*", "/var/lib/systemd/coredump/*", "/var/lib/apport/coredump/*"}},
	{Severity: finding.Note, Code: "left-package-cache", Text: "packages that were fetched", Remedy: "apt-get clean, dnf clean all", paths: []string{"/var/cache/apt/archives/*.deb", "/var/cache/dnf/**/*.rpm", "/var/cache/yum/**/*.rpm", "/var/cache/zypp/packages/**/*.rpm", "/var/cache/apk/*.apk", "/var/cache/pacman/pkg/*.pkg*"}},
	{Severity: finding.Note, Code: "left-temporary-files", Text: "temporary files", Remedy: "delete them", paths: []string{"/tmp/**/*", "/var/tmp/**/*"}},
	{Severity: finding.Note, Code: "left-volume-history", Text: "the history of the volume group of another machine", Remedy: "delete it", paths: []string{"/etc/lvm/archive/*", "/etc/lvm/backup/*"}},
	{Severity: finding.Note, Code: "left-containers", Text: "containers", Remedy: "delete them", paths: []string{"/var/lib/docker/containers/*/*", "/var/lib/containers/storage/overlay-containers/*/*"}},

	// Windows.
	{Severity: finding.Error, Code: "not-generalized", Text: "Windows is not generalized, so clones do not read their answers, and share their SID", Remedy: "run sysprep /generalize /oobe /shutdown"},
	{Severity: finding.Error, Code: "left-answer-file", Text: "an answer file, which may hold passwords and takes the place of that of the clone", Remedy: "delete it",
		paths: []string{"/Windows/Panther/unattend.xml", "/Windows/Panther/Unattend/*.xml", "/Windows/System32/Sysprep/unattend.xml", "/Windows/System32/Sysprep/Panther/unattend.xml", "/unattend.xml", "/autounattend.xml"}},
	{Severity: finding.Warning, Code: "pending-updates", Text: "updates wait for a restart", Remedy: "restart the guest until none do", paths: []string{"/Windows/WinSxS/pending.xml"}},
	{Severity: finding.Warning, Code: "left-windows-credentials", Text: "saved credentials of people", Remedy: "delete them", paths: []string{"/Users/*/AppData/Local/Microsoft/Credentials/*", "/Users/*/AppData/Roaming/Microsoft/Credentials/*"}},
	{Severity: finding.Warning, Code: "no-drivers", Text: "there is no driver for virtual disks, from which clones would have to boot", Remedy: "install the virtio drivers, or use hardware that Windows knows"},
}

// Files are the patterns of files whose being there the check looks for, and parts of the names of
// those that it leaves out.
func (c Check) Files() (paths, except []string) { return c.paths, c.except }
