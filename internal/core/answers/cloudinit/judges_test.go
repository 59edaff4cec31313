package cloudinit

import (
	"crypto/rand"
	"encoding/json"
	"io/fs"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
)

func judge(t *testing.T, program string) {
	t.Helper()
	if _, err := exec.LookPath(program); err != nil {
		t.Skipf("skipped: %s is not installed", program)
	}
}

func prefixes(words ...string) (all []netip.Prefix) {
	for _, w := range words {
		all = append(all, netip.MustParsePrefix(w))
	}
	return all
}

func addrs(words ...string) (all []netip.Addr) {
	for _, w := range words {
		all = append(all, netip.MustParseAddr(w))
	}
	return all
}

// whole is a machine that has everything.
func whole(t *testing.T) answers.Input {
	t.Helper()
	key, err := secret.NewHostKey(rand.Reader, "bms-sonar-01")
	require.NoError(t, err)
	in := answers.Input{Instance: "i-1", Home: "http://198.51.100.2:8700/v1/home/c0ffee", Secrets: answers.Secrets{Hashes: map[string]string{"survey": "$6$x$y", "ops": "$y$j9T$x$y"},
		HostKeyPrivate: key.Private, HostKeyPublic: key.Public, HostCertificate: "ssh-ed25519-cert-v01@openssh.com AAAA"}}
	in.Guest = machine.Guest{Hostname: "bms-sonar-01", Domain: "brackwater.example", Login: "survey", Password: machine.Generate,
		Keys: []string{key.Public}, Timezone: "Europe/Oslo", Locale: "nb_NO.UTF-8", Firstboot: &machine.Firstboot{
			Packages: []string{"chrony"}, Update: machine.SwitchOn, Commands: hostile[:20], Early: []string{"echo early"},
			Sources: []machine.Source{{Name: "tools", Apt: "deb http://mirror.brackwater.example/debian bookworm main", Key: "-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nx\n"},
				{Name: "rpms", Yum: "http://mirror.brackwater.example/rpm", Key: "k"}},
			Files: []machine.GuestFile{{Path: "/etc/motd", Text: "yes\n", Mode: "0644", Owner: "root:adm"}, {Path: "/srv/x", From: machine.Bytes{0, 255}}, {Path: "/srv/empty"}},
			Logins: map[string]machine.Login{"ops": {Name: "Ops, \"the\" team", Groups: []string{"adm", "sudo"}, Sudo: "nopasswd", Shell: "/bin/sh", Keys: []string{key.Public},
				Password: machine.Generate, Expire: machine.SwitchOn}, "guest": {Locked: machine.SwitchOn}},
			SSH:   machine.SSH{Root: "keys", Passwords: machine.SwitchOff, Authority: []string{key.Public}},
			Trust: []string{"-----BEGIN CERTIFICATE-----\nx\n-----END CERTIFICATE-----\n"}, Proxy: "http://proxy.brackwater.example:3128", NoProxy: []string{"localhost"},
			NTP: []string{"198.51.100.3"}, Keyboard: "no", Swap: machine.GiB, Grow: machine.SwitchOff, End: "power-off",
			Volumes: []machine.Volume{{Disk: 1, Mount: "/srv/data it's"}, {Disk: 2, Filesystem: "xfs", Label: "raw"}},
		}}
	in.Guest.Joins, in.Secrets.Account = "brackwater.example", `p'w"\x`
	in.Adapters = []machine.Adapter{
		{Card: machine.Card{MAC: "02:00:00:00:00:01"}, Interface: machine.Interface{MTU: 1400, Addressing: machine.Addressing{Addresses: prefixes("198.51.100.7/24", "2001:db8:b0a7::7/64"), Gateways: addrs("198.51.100.1", "2001:db8:b0a7::1"), DNS: addrs("198.51.100.2", "2001:db8:b0a7::2"), Search: []string{"brackwater.example"}}}},
		{Card: machine.Card{MAC: "02:00:00:00:00:02"}, Interface: machine.Interface{NoIPv6: true, Addressing: machine.Addressing{DHCP: true}}},
	}
	return in
}

func written(t *testing.T, in answers.Input) (dir string) {
	t.Helper()
	dir = t.TempDir()
	for _, f := range Files(in) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, f.Name), f.Content, 0o600))
	}
	return dir
}

func TestCloudInitAcceptsTheUserData(t *testing.T) {
	judge(t, "cloud-init")
	small := whole(t)
	small.Guest = machine.Guest{Hostname: "x", Password: machine.NoPassword}
	for _, in := range []answers.Input{whole(t), small} {
		out, err := exec.Command("cloud-init", "schema", "--config-file", filepath.Join(written(t, in), "user-data")).CombinedOutput()
		assert.NoError(t, err, "%s\n%s", out, UserData(in))
		assert.Contains(t, string(out), "Valid cloud-config")
	}
	compiled, err := exec.Command("/usr/bin/python3", "-c", "import sys; compile(sys.stdin.read(), 'call-home.py', 'exec')").CombinedOutput()
	require.NoError(t, err, string(compiled))
}

var renderers = []string{"netplan", "eni", "sysconfig", "networkd", "network-manager"}

// render lets all of cloud-init's renderers write the network data of some folders.
func render(t *testing.T, dirs []string) {
	t.Helper()
	said, err := exec.Command("/usr/bin/python3", append([]string{"-c", `
import os, sys
from cloudinit.cmd.devel import net_convert
for folder in sys.argv[2:]:
    for renderer in sys.argv[1].split():
        child = os.fork() # each begins anew
        if child:
            if os.waitpid(child, 0)[1]:
                sys.exit(renderer + " failed")
            continue
        net_convert.handle_args("net-convert", net_convert.get_parser().parse_args(["-k", "yaml", "-p", folder + "/network-config", "-d", folder + "/" + renderer,
            "-D", "rhel" if renderer == "sysconfig" else "debian", "-O", renderer]))
        sys.exit(0)
`, strings.Join(renderers, " ")}, dirs...)...).CombinedOutput()
	require.NoError(t, err, "%s", said)
}

// rendered is all that one of them has written.
func rendered(t *testing.T, dir, renderer string) string {
	out := filepath.Join(dir, renderer)
	var all strings.Builder
	require.NoError(t, filepath.WalkDir(out, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		all.Write(b)
		return err
	}))
	return strings.ToLower(all.String())
}

// Whichever way a guest sets up its network, nothing gets lost on the way.
func TestEveryRendererKeepsTheNetwork(t *testing.T) {
	judge(t, "cloud-init")
	one := machine.Adapter{Card: machine.Card{MAC: "02:00:00:00:00:01"}, Interface: machine.Interface{Addressing: machine.Addressing{Addresses: prefixes("198.51.100.7/24", "2001:db8:b0a7::7/64"), Gateways: addrs("198.51.100.1", "2001:db8:b0a7::1"), DNS: addrs("198.51.100.2", "2001:db8:b0a7::2"), Search: []string{"brackwater.example"}}}}
	routed, isolated := one, one
	routed.Routes = []machine.Route{{To: netip.MustParsePrefix("203.0.113.0/24"), Via: netip.MustParseAddr("198.51.100.9")},
		{To: netip.MustParsePrefix("2001:db8:c::/48"), Via: netip.MustParseAddr("2001:db8:b0a7::9")}}
	isolated.Gateways, isolated.MTU = nil, 1400
	cases := []struct {
		name     string
		adapters []machine.Adapter
		has      []string
		lacks    []string
	}{
		{"both families", []machine.Adapter{one, {Card: machine.Card{MAC: "02:00:00:00:00:02"}, Interface: machine.Interface{Addressing: machine.Addressing{DHCP: true}}}},
			[]string{"198.51.100.7", "2001:db8:b0a7::7", "198.51.100.1", "2001:db8:b0a7::1", "198.51.100.2", "2001:db8:b0a7::2", "brackwater.example", "02:00:00:00:00:01", "02:00:00:00:00:02", "dhcp|method=auto"}, nil},
		{"routes", []machine.Adapter{routed}, []string{"198.51.100.7", "2001:db8:b0a7::7", "203.0.113.0", "198.51.100.9", "2001:db8:c::/48", "2001:db8:b0a7::9", "198.51.100.1", "198.51.100.2", "2001:db8:b0a7::2", "brackwater.example"}, nil},
		{"routes beside DHCP", []machine.Adapter{{Card: machine.Card{MAC: one.MAC}, Interface: machine.Interface{Addressing: machine.Addressing{DHCP: true, Routes: routed.Routes[:1]}}}}, []string{"203.0.113.0", "198.51.100.9", "dhcp|method=auto"}, nil},
		{"routes beside DHCPv6", []machine.Adapter{{Card: machine.Card{MAC: one.MAC}, Interface: machine.Interface{Addressing: machine.Addressing{DHCP6: true, Routes: routed.Routes[1:]}}}}, []string{"2001:db8:c::/48", "2001:db8:b0a7::9", "dhcp6: true|inet6 dhcp|dhcpv6c=yes|dhcp=ipv6|method=auto"}, nil},
		{"routes beside SLAAC", []machine.Adapter{{Card: machine.Card{MAC: one.MAC}, Interface: machine.Interface{Addressing: machine.Addressing{SLAAC: true, Routes: routed.Routes[1:]}}}}, []string{"2001:db8:c::/48|accept-ra: true", "2001:db8:b0a7::9|accept-ra: true"}, nil},
		{"isolated", []machine.Adapter{isolated}, []string{"198.51.100.7", "1400"}, []string{"198.51.100.1\n", "gateway"}},
		{"slaac beside static", []machine.Adapter{{Card: machine.Card{MAC: one.MAC}, Interface: machine.Interface{Addressing: machine.Addressing{SLAAC: true, Addresses: prefixes("198.51.100.7/24"), DNS: addrs("198.51.100.2")}}}},
			[]string{"198.51.100.7", "198.51.100.2", "inet6 auto|ipv6_autoconf=yes|accept-ra: true|method=auto|10-|name=adapter1"}, []string{"ipv6]\nmethod=disabled"}},
		{"dhcp6", []machine.Adapter{{Card: machine.Card{MAC: one.MAC}, Interface: machine.Interface{Addressing: machine.Addressing{DHCP6: true}}}}, []string{"dhcp6: true|inet6 dhcp|dhcpv6c=yes|dhcp=ipv6|method=auto"}, nil},
		{"none", []machine.Adapter{one, {Card: machine.Card{MAC: "02:00:00:00:00:02"}}}, []string{"198.51.100.7", "adapter2|02:00:00:00:00:02"}, nil},
		{"tag and bond", []machine.Adapter{one, {Card: machine.Card{MAC: "02:00:00:00:00:02"}, Interface: machine.Interface{Parent: machine.Parent{Adapter: 1}}},
			{Card: machine.Card{MAC: one.MAC}, Interface: machine.Interface{Parent: machine.Parent{Adapter: 1, VLAN: 30}, Addressing: machine.Addressing{Addresses: prefixes("192.0.2.7/24")}}}}, []string{"198.51.100.7", "192.0.2.7", "02:00:00:00:00:02", "198.51.100.2"}, nil},
	}
	var dirs []string
	for _, c := range cases {
		dirs = append(dirs, written(t, answers.Input{Machine: machine.Machine{Spec: machine.Spec{Adapters: c.adapters}}}))
	}
	render(t, dirs)
	for i, c := range cases {
		for _, renderer := range renderers {
			text := rendered(t, dirs[i], renderer)
			for _, part := range c.has {
				found := false
				for _, either := range strings.Split(part, "|") {
					found = found || strings.Contains(text, either)
				}
				assert.True(t, found, "%s, %s: %s is not in\n%s", c.name, renderer, part, text)
			}
			for _, part := range c.lacks {
				assert.NotContains(t, text, part, "%s, %s", c.name, renderer)
			}
		}
	}
}

// A boot does not wait for what it is not to wait for, where the renderer knows
// of that.
func TestWaiting(t *testing.T) {
	two := []machine.Adapter{{Card: machine.Card{MAC: "02:00:00:00:00:01"}, Interface: machine.Interface{Addressing: machine.Addressing{DHCP: true}}}, {Card: machine.Card{MAC: "02:00:00:00:00:02"}, Interface: machine.Interface{Addressing: machine.Addressing{DHCP: true}}}}
	for wait, optional := range map[machine.NetworkWait]int{"": 0, "all": 0, "first": 1, "none": 2} {
		assert.Equal(t, optional, strings.Count(string(networkConfig(two, wait)), "optional: true"), wait)
	}
}

// cloud-init's own reading of a joined document: lists are joined in order,
// mappings merged, and the user's single values count.
func TestUsersOwnPartsAreJoined(t *testing.T) {
	judge(t, "cloud-init")
	in := whole(t)
	in.Home = ""
	in.Guest.Commands = []string{"echo ours"}
	in.Guest.Userdata = []string{
		"#cloud-config\ntimezone: UTC\nruncmd: [echo first]\nssh_keys: {rsa_private: x}\nswap: {size: 5}\ndisable_root: true\n",
		"#!/bin/sh\necho script; é\n",
		"#cloud-config\nruncmd: [echo second]\nfinal_message: done\nhostname: theirs\n",
		"#cloud-config\nmerge_how: dict(replace)+list()+str()\nfinal_message: last\n",
	}
	dir := written(t, in)
	out, err := exec.Command("/usr/bin/python3", "-c", `
import sys, json, os, logging
from cloudinit import user_data, handlers, helpers, stages, util
from cloudinit.handlers import cloud_config, shell_script
from cloudinit.settings import PER_ALWAYS
class Paths:
    def get_ipath(self, n=None): return os.path.join(sys.argv[1], "ipath-" + n)
    def get_ipath_cur(self, n=None): return os.path.join(sys.argv[1], "ipath-" + n)
    def get_cpath(self, n=None): return sys.argv[1]
    def get_runpath(self, n=None): return sys.argv[1]
paths = Paths()
os.mkdir(os.path.join(sys.argv[1], "ipath-scripts"))
msg = user_data.UserDataProcessor(paths).process(open(sys.argv[1] + "/user-data", "rb").read())
h = cloud_config.CloudConfigPartHandler(paths)
s = shell_script.ShellScriptPartHandler(paths)
data = {"handlers": None, "handlerdir": sys.argv[1], "data": None, "frequency": PER_ALWAYS, "handlercount": 0, "excluded": []}
c = handlers.ContentHandlers() if hasattr(handlers, "ContentHandlers") else helpers.ContentHandlers()
c.initialized = []
for x in (h, s): c.register(x, overwrite=True)
data["handlers"] = c
handlers.call_begin(h, None, "always"); handlers.call_begin(s, None, "always")
handlers.walk(msg, handlers.walker_callback, data=data)
handlers.call_end(h, None, "always")
cfg = util.load_yaml(util.load_file(os.path.join(sys.argv[1], "ipath-cloud_config")))
json.dump({"config": cfg, "scripts": [open(os.path.join(sys.argv[1], "ipath-scripts", f)).read() for f in sorted(os.listdir(os.path.join(sys.argv[1], "ipath-scripts")))]}, sys.stdout)
`, dir).Output()
	require.NoError(t, err, "%s", stderr(err))
	var got struct {
		Config  map[string]any
		Scripts []string
	}
	require.NoError(t, json.Unmarshal(out, &got), "%s", out)
	c := got.Config
	assert.Equal(t, []any{joinCommand(whole(t).Guest), "echo ours", "echo first", "echo second"}, c["runcmd"])
	assert.Equal(t, "UTC", c["timezone"])
	assert.Equal(t, "theirs", c["hostname"])
	assert.Equal(t, true, c["disable_root"], "the user's truth counts, too")
	assert.Equal(t, "last", c["final_message"])
	assert.Equal(t, "x", c["ssh_keys"].(map[string]any)["rsa_private"])
	assert.Equal(t, in.Secrets.HostKeyPrivate, c["ssh_keys"].(map[string]any)["ed25519_private"])
	assert.EqualValues(t, 5, c["swap"].(map[string]any)["size"])
	assert.Equal(t, []string{"#!/bin/sh\necho script; é\n"}, got.Scripts)
}

func stderr(err error) []byte {
	if e, ok := err.(*exec.ExitError); ok {
		return e.Stderr
	}
	return nil
}

// What a shell makes of the script of a data disk.
func TestVolumeScriptIsShell(t *testing.T) {
	judge(t, "sh")
	for _, v := range whole(t).Guest.Volumes {
		out, err := exec.Command("sh", "-nc", volumeScript(v)).CombinedOutput()
		assert.NoError(t, err, "%s", out)
	}
	for _, command := range early(whole(t)) {
		out, err := exec.Command("sh", "-nc", command).CombinedOutput()
		assert.NoError(t, err, "%s: %s", command, out)
	}
}
