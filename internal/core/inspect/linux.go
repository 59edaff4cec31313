package inspect

import (
	"path"
	"slices"
	"strings"

	"mintbatch/internal/core/pattern"
	"mintbatch/internal/core/tree"
)

// linux looks at a Linux system.
func (i *Inspection) linux(g *guest) {
	s := &i.System
	s.Kind = Linux
	about := map[string]string{}
	for _, line := range lines(g.text(g.first("/etc/os-release", "/usr/lib/os-release"))) {
		key, value, _ := strings.Cut(line, "=")
		about[key] = strings.Trim(value, `"'`)
	}
	s.Name, s.ID, s.Version = about["PRETTY_NAME"], about["ID"], about["VERSION_ID"]
	for _, kernel := range g.glob("/boot/vmlinuz-*") {
		s.Kernels = append(s.Kernels, strings.TrimPrefix(path.Base(kernel), "vmlinuz-"))
	}
	slices.Sort(s.Kernels)
	s.Architecture = architecture(g)
	s.Init = initOf(g)
	s.Agent = g.first("/usr/sbin/qemu-ga", "/usr/bin/qemu-ga", "/sbin/qemu-ga")
	s.SSH = g.first("/usr/sbin/sshd", "/usr/bin/sshd", "/usr/sbin/dropbear")
	s.Sudo = g.first("/usr/bin/sudo", "/bin/sudo", "/usr/bin/doas")
	s.GrowPart = g.first("/usr/bin/growpart", "/bin/growpart")
	for _, n := range []struct {
		name  string
		paths []string
	}{{"netplan", []string{"/usr/sbin/netplan"}}, {"ifupdown", []string{"/usr/sbin/ifup", "/sbin/ifup"}}, {"NetworkManager", []string{"/usr/sbin/NetworkManager"}},
		{"systemd-networkd", []string{"/lib/systemd/systemd-networkd", "/usr/lib/systemd/systemd-networkd"}}, {"wicked", []string{"/usr/sbin/wicked"}}} {
		if g.first(n.paths...) != "" {
			s.Network = append(s.Network, n.name)
		}
	}
	i.cloudInit(g)
	for _, needed := range []struct{ code, has string }{{"no-agent", s.Agent}, {"no-growpart", s.GrowPart}, {"no-ssh", s.SSH}} {
		if needed.has == "" {
			i.add(needed.code)
		}
	}
	i.files(g)
	if _, about, err := g.resolve("/var/lib/dbus/machine-id", false); err == nil && about.Mode().IsRegular() && about.Size() > 0 {
		i.add("left-dbus-id", "/var/lib/dbus/machine-id")
	}
	i.logins(g)
	for _, v := range i.Volumes {
		switch v.FileSystem {
		case "swap":
			i.add("left-swap", v.Name)
		case "hibernation":
			i.add("left-hibernation", v.Name)
		}
	}
}

// architecture tells that of the programs, by the one that every system has (ELF, e_machine).
func architecture(g *guest) string {
	f := g.reader(g.first("/bin/sh", "/usr/bin/sh", "/sbin/init"))
	if f == nil {
		return ""
	}
	head := make([]byte, 20)
	if n, _ := f.ReadAt(head, 0); n < len(head) || string(head[:4]) != "\x7fELF" {
		return ""
	}
	return map[byte]string{62: "x86_64", 183: "aarch64", 3: "i386", 40: "arm", 243: "riscv64", 22: "s390x", 21: "ppc64le"}[head[18]]
}

func initOf(g *guest) string {
	switch at, _, _ := g.resolve("/sbin/init", true); {
	case strings.HasSuffix(at, "/systemd"):
		return "systemd"
	case g.is("/sbin/openrc"):
		return "openrc"
	case g.is("/sbin/runit") || g.is("/usr/bin/runit"):
		return "runit"
	case at != "":
		return path.Base(at)
	}
	return ""
}

var versionLine = pattern.Lazy(`__VERSION__ = "([^"]+)"`)

// needed are the modules of cloud-init that answers need.
var needed = []string{"write-files", "bootcmd", "runcmd", "users-groups", "ssh", "set-passwords"}

// cloudInit looks whether cloud-init would read the answers of a clone.
func (i *Inspection) cloudInit(g *guest) {
	found := append(g.glob("/usr/lib/python3*/*-packages/cloudinit/version.py"), g.glob("/usr/local/lib/python3*/*-packages/cloudinit/version.py")...)
	if len(found) == 0 {
		i.add("no-cloud-init")
		return
	}
	c := &CloudInit{}
	i.System.CloudInit = c
	if m := versionLine().FindStringSubmatch(g.text(found[0])); m != nil {
		c.Version, _, _ = strings.Cut(strings.TrimPrefix(m[1], "v"), "-")
	}
	if g.exists("/etc/cloud/cloud-init.disabled") {
		c.Disabled = "/etc/cloud/cloud-init.disabled"
	}
	for _, grub := range append(g.glob("/etc/default/grub"), g.glob("/etc/default/grub.d/*.cfg")...) {
		if slices.ContainsFunc(lines(g.text(grub)), func(line string) bool { return strings.Contains(line, "cloud-init=disabled") }) {
			c.Disabled = grub
		}
	}
	if c.Disabled != "" {
		i.add("cloud-init-disabled", c.Disabled)
	}
	modules := map[string]bool{}
	from := "" // which file says what data sources there may be
	for _, file := range append(g.glob("/etc/cloud/cloud.cfg"), g.glob("/etc/cloud/cloud.cfg.d/*.cfg")...) {
		says := config(file, g.text(file))
		if sources := says.Get("datasource_list"); sources != nil && sources.Kind == tree.List { // the last one counts
			c.Sources, from = items(sources), file
		}
		for _, key := range []string{"cloud_init_modules", "cloud_config_modules", "cloud_final_modules"} {
			list := says.Get(key)
			if list == nil {
				continue
			}
			for _, name := range items(list) {
				modules[strings.ReplaceAll(name, "_", "-")] = true
			}
		}
	}
	if c.Sources != nil && !slices.ContainsFunc(c.Sources, func(s string) bool { return strings.EqualFold(s, "NoCloud") }) {
		i.add("no-nocloud", from)
	}
	for _, m := range needed {
		if len(modules) > 0 && !modules[m] {
			c.Lacks = append(c.Lacks, m)
		}
	}
	if c.Lacks != nil {
		i.add("lacks-modules", c.Lacks...)
	}
}

// exists reports whether there is something, if only an empty file.
func (g *guest) exists(name string) bool {
	_, _, err := g.resolve(name, true)
	return err == nil
}
