// Package cloudinit writes the answers that cloud-init reads from a NoCloud
// seed: meta-data, user-data and network-config. What it writes is valid for
// cloud-init 22.4 and everything newer.
package cloudinit

import (
	"cmp"
	"fmt"
	"net/netip"
	"strings"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
)

// Label is the volume label by which cloud-init finds a NoCloud seed.
const Label = "cidata"

// Files writes the answers of a machine. The same input gives the same bytes.
func Files(in answers.Input) []answers.File {
	return []answers.File{
		{Name: "meta-data", Content: metaData(in)},
		{Name: "network-config", Content: networkConfig(in.Adapters)},
		{Name: "user-data", Content: userData(in)},
	}
}

func metaData(in answers.Input) []byte {
	var m mapping
	m.add("instance-id", in.Instance)
	m.add("local-hostname", in.Guest.Hostname)
	return m.encode()
}

func userData(in answers.Input) []byte {
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
	m.add("users", users(g, in.Secrets))
	m.add("ssh_pwauth", g.Password != machine.NoPassword)
	m.add("disable_root", true)
	m.add("ssh_deletekeys", true)
	m.add("ssh_keys", mapping{
		{"ed25519_private", in.Secrets.HostKeyPrivate},
		{"ed25519_public", in.Secrets.HostKeyPublic},
	})
	m.add("package_update", len(g.Packages) > 0)
	m.add("packages", g.Packages)
	m.add("runcmd", g.Commands)
	return append([]byte("#cloud-config\n"), m.encode()...)
}

func users(g machine.Guest, s answers.Secrets) []mapping {
	if g.Login == "" {
		return nil
	}
	var u mapping
	u.add("name", g.Login)
	u.add("shell", "/bin/bash")
	u.add("groups", []string{"sudo"})
	if g.Password != machine.NoPassword {
		u.add("lock_passwd", false)
		// hashed_passwd, unlike passwd, also counts for a login that the
		// template already has.
		u.add("hashed_passwd", s.PasswordHash)
		u.add("sudo", "ALL=(ALL:ALL) ALL")
	} else {
		u.add("lock_passwd", true)
		u.add("sudo", "ALL=(ALL:ALL) NOPASSWD:ALL")
	}
	u.add("ssh_authorized_keys", g.Keys)
	return []mapping{u}
}

// networkConfig writes version 2. An adapter is found by its MAC address and
// given a name of its own, since what a kernel calls it cannot be known.
func networkConfig(adapters []machine.Adapter) []byte {
	var ethernets mapping
	for i, a := range adapters {
		name := fmt.Sprintf("adapter%d", i+1)
		e := mapping{
			{"match", mapping{{"macaddress", strings.ToLower(a.MAC)}}},
			{"set-name", name},
			{"dhcp4", a.DHCP},
			{"dhcp6", false},
		}
		if a.DHCP && i > 0 { // the first adapter's way out is preferred
			e.add("dhcp4-overrides", mapping{{"route-metric", 100 * (i + 1)}})
		}
		e.add("addresses", prefixes(a.Addresses))
		// A route to ::/0 would be clearer, but cloud-init 22.4 makes ::/64 of it.
		for _, g := range a.Gateways {
			if g.Is4() {
				e.add("gateway4", g.String())
			} else {
				e.add("gateway6", g.String())
			}
		}
		var names mapping
		names.add("addresses", addresses(a.DNS))
		names.add("search", a.Search)
		e.add("nameservers", names)
		ethernets.add(name, e)
	}
	m := mapping{{"version", 2}}
	m.add("ethernets", ethernets)
	return m.encode()
}

func prefixes(ps []netip.Prefix) []string {
	var words []string
	for _, p := range ps {
		words = append(words, p.String())
	}
	return words
}

func addresses(as []netip.Addr) []string {
	var words []string
	for _, a := range as {
		words = append(words, a.String())
	}
	return words
}
