package setup

// examples are values of the setup's keys, by the type that has the key and the key, as the
// schema shows them. A key whose words or form tell enough has none here.
var examples = map[string]any{
	"Setup.mintbatch": 1, "Setup.sheet": "machines.csv", "Setup.ledger": "mintbatch.ledger",
	"Setup.columns":   map[string]any{"Nodename": "machine", "RAM": map[string]any{"column": "memory", "unit": "GiB"}},
	"Setup.naming":    map[string]any{"prefix": "bms-"},
	"Setup.defaults":  map[string]any{"template": "deb12-base", "network": "survey"},
	"Setup.sites":     map[string]any{"quay": map[string]any{"kind": "libvirt", "hosts": map[string]any{"hv1": "qemu+ssh://hv1.brackwater.example/system"}}},
	"Setup.templates": map[string]any{"deb12-base": map[string]any{"guest": "linux"}},
	"Setup.networks":  map[string]any{"survey": map[string]any{"subnet": "198.51.100.0/24", "gateway": "198.51.100.1"}},
	"Setup.presets":   map[string]any{"tide-gauge": map[string]any{"cpus": 1, "memory": "1GiB"}},
	"Setup.firstboot": map[string]any{"chrony": map[string]any{"packages": []string{"chrony"}}},
	"Setup.secrets":   map[string]any{"recipients": "age1...", "identity": "operator.key"},
	"Setup.backups":   10, "Backups.keep": 10, "Backups.dir": "mintbatch.backups", "Setup.logs": "mintbatch.runs", "Setup.limits": map[string]any{"confirm": "10m"},

	"Column.column": "memory", "Column.unit": "GiB", "Column.fixed": "quay",

	"Naming.presets":  map[string]any{"chart-desk": map[string]any{"max_length": 15}},
	"NameRule.prefix": "bms-", "NameRule.pattern": "bms-[a-z]+-[0-9]{2}", "NameRule.max_length": 15, "NameRule.lowercase": true, "NameRule.reserved": []string{"bms-gate"},

	"Site.url": "https://manager.brackwater.example/quay", "Site.fingerprint": "sha256:547e4c0d...", "Site.token": "file:quay.token",
	"Site.parallel": 8, "Site.parallel_per_host": map[string]any{"full_clones": 2}, "Site.parallel_per_store": 4, "Site.mac_prefix": "52:54:00",
	"Site.hosts": map[string]any{"hv1": "qemu+ssh://hv1.brackwater.example/system"}, "Site.spare_memory": "4GiB", "Site.spare_disk": "50GiB", "Site.anti_affinity": "preset",
	"Host.url": "qemu+ssh://hv1.brackwater.example/system", "Host.password": "env:HV_PASSWORD",
	"Parallel.machines": 8, "Parallel.full_clones": 2, "Parallel.starts": 4, "Parallel.confirms": 64,

	"Template.source": "debian-12-golden", "Template.volume": "images/deb12.qcow2", "Template.hardware": map[string]any{"disk_bus": "virtio"}, "Template.custom_answers": map[string]any{"label": "ANSWERS"},
	"OwnAnswers.label": "ANSWERS", "OwnAnswers.files": []any{map[string]any{"name": "answers.txt", "text": "file:answers.tmpl"}},
	"OwnFile.name": "answers.txt", "OwnFile.text": "file:answers.tmpl",
	"Hardware.arch": "x86_64", "Hardware.machine_type": "q35", "Hardware.cpu": "host-model", "Hardware.sockets": 1,

	"Network.source": "bridge:br-survey", "Network.vlan": 120, "Network.model": "virtio", "Network.subnet": []string{"198.51.100.0/24", "2001:db8:b0a7::/64"},
	"Network.gateway": "198.51.100.1", "Network.dns": "198.51.100.2", "Network.search": "brackwater.example", "Network.mtu": 9000, "Network.probe": []string{"dns", "ping"},
	"Network.routes": []any{map[string]any{"to": "203.0.113.0/24", "via": "198.51.100.254"}}, "Network.pools": map[string]any{"nodes": "198.51.100.100-198.51.100.180"},
	"Pool.ranges": "198.51.100.100-198.51.100.180", "Pool.exclude": "198.51.100.110",
	"Route.to": "203.0.113.0/24", "Route.via": "198.51.100.254",

	"Preset.extends": "tide-gauge", "Preset.expect": map[string]any{"services": "chrony"}, "Preset.password_hash": "yescrypt",
	"Expect.files": "/srv/tides", "Expect.services": "chrony", "Expect.ports": 22,
	"Hash.rounds": 100000,

	"Secrets.recipients": "age1...", "Secrets.identity": "operator.key", "Secrets.passwords": map[string]any{"length": 24}, "Secrets.ssh_host_ca": "secret:host-authority",
	"Policy.length": 24, "Policy.classes": []string{"upper", "lower", "digit"},
	"Events.dir": "mintbatch.runs", "Events.keep_days": 90,
	"Setup.call_home": map[string]any{"listen": "198.51.100.2:8700"}, "CallHome.listen": "198.51.100.2:8700", "CallHome.url": "http://operator.brackwater.example:8700",
	"Limits.waves": "1,10%,rest", "Limits.restart_window": "16:00-18:00", "Limits.max_missing": "25%",

	"Firstboot.packages": []string{"chrony"}, "Firstboot.package_sources": []any{map[string]any{"name": "survey", "apt": "deb http://mirror.brackwater.example/debian bookworm main"}},
	"Firstboot.early_commands": "mkdir -p /srv/tides", "Firstboot.commands": "systemctl enable --now chrony",
	"Firstboot.carry": "maps/tiles.img", "Firstboot.stages": []any{map[string]any{"name": "roles", "commands": "/srv/setup/roles.sh", "restart": "on"}}, "Stage.name": "roles", "Stage.commands": "/srv/setup/roles.sh",
	"Firstboot.files":           []any{map[string]any{"path": "/etc/motd", "content": "a tide gauge"}},
	"Firstboot.logins":          map[string]any{"deck": map[string]any{"groups": "adm", "keys": "file:deck.pub"}},
	"Firstboot.ssh":             map[string]any{"root_login": "off"},
	"Firstboot.ca_certificates": "file:office-ca.pem", "Firstboot.proxy": "http://proxy.brackwater.example:3128", "Firstboot.no_proxy": ".brackwater.example",
	"Firstboot.ntp": "198.51.100.2", "Firstboot.keyboard": "no", "Firstboot.swap": "2GiB", "Firstboot.volumes": []any{map[string]any{"disk": 1, "mount": "/srv/tides"}},
	"Firstboot.user_data": "file:more.cfg", "Firstboot.windows": map[string]any{"workgroup": "SURVEY"}, "Firstboot.properties": map[string]any{"leg": "north"},
	"Source.name": "survey", "Source.apt": "deb http://mirror.brackwater.example/debian bookworm main", "Source.yum": "http://mirror.brackwater.example/el9", "Source.key": "file:mirror.asc",
	"GuestFile.path": "/etc/motd", "GuestFile.content": "a tide gauge", "GuestFile.base64": "YSB0aWRlIGdhdWdl", "GuestFile.from": "logo.png", "GuestFile.mode": "0640", "GuestFile.owner": "root:adm",
	"Login.full_name": "Deck Watch", "Login.groups": "adm", "Login.sudo": "nopasswd", "Login.shell": "/bin/bash", "Login.keys": "file:deck.pub", "Login.password": "generate",
	"SSH.user_ca": "file:users.pub",
	"Volume.disk": 1, "Volume.label": "tides", "Volume.mount": "/srv/tides", "Volume.mount_options": "defaults,noatime", "Volume.drive_letter": "D",
	"Windows.registered_owner": "Chart Desk", "Windows.registered_organization": "Brackwater Marine Survey", "Windows.ui_language": "en-US", "Windows.workgroup": "SURVEY",
	"Windows.join_domain": map[string]any{"domain": "brackwater.example", "account": "joiner", "password": "secret:joiner"}, "Windows.auto_logons": 1, "Windows.remote_access": "desktop",
	"Join.domain": "brackwater.example", "Join.account": "joiner", "Join.password": "secret:joiner", "Join.ou": "OU=nodes,DC=brackwater,DC=example",
}

// cells say what a column's default is, and give one.
var cells = map[string]struct{ doc, example string }{
	"machine": {"the machine's name, or a range of names", "bms-tide-[01-06]"}, "preset": {"the preset whose values a row takes", "tide-gauge"},
	"template": {"the template to clone", "deb12-base"}, "site": {"the site where the machine is made", "quay"}, "host": {"the host that runs it", "quay-hv1"},
	"store": {"the store that has its disks", "quay-fast"}, "folder": {"the folder that groups it at its site", "tide"}, "clone": {"linked (the default) or full", "full"},
	"cpus": {"number of CPUs", "2"}, "memory": {"size of its memory", "4GiB"}, "disk": {"size of its system disk", "20GiB"}, "disks": {"its data disks: SIZE[:STORE[:KIND]]", "100G:bulk:full"},
	"firmware": {"bios or uefi", "uefi"}, "network": {"the network of an adapter", "survey"}, "address": {"dhcp, addresses, pool, pool:NAME or none", "pool"},
	"mac": {"the adapter's MAC address", "52:54:00:12:34:56"}, "link": {"up (the default) or down", "down"}, "parent": {"the adapter that a tagged network is on", "1"},
	"hostname": {"host name in the guest (default: the machine's name)", "{machine}"}, "domain": {"DNS domain", "brackwater.example"}, "login": {"name of the login", "survey"},
	"password": {"generate, none or secret:NAME", "none"}, "keys": {"SSH public keys, a line each; best as file:PATH", "file:desk.pub"}, "timezone": {"time zone", "Europe/Oslo"},
	"locale": {"locale", "en_GB.UTF-8"}, "licence": {"the product key, as secret:NAME", "secret:win"}, "firstboot": {"names of first-boot contents", "chrony"},
	"power": {"on (the default), stay-on, off or confirm-then-off", "on"}, "checkpoint": {"names of checkpoints: before the first start, or @confirmed or @confirmed-off", "fresh ready@confirmed"},
	"confirm": {"call-home, if its site cannot ask the guest", "call-home"},
	"media":   {"an image that is in a CD drive for the first boot: STORE/NAME", "media/drivers.iso"},
	"after":   {"the machines after which it is started: names, globs, preset:NAME or labels", "bms-dns-*"},
	"owner":   {"who the machine is for", "tide desk"}, "notes": {"free text", "spare"}, "until": {"the last day on which it may run", "2027-03-31"}, "labels": {"NAME=VALUE, several separated by spaces", "leg=north"},
}
