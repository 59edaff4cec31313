package cloudinit

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
)

// hostile holds what a cell can hold and YAML 1.1 readers stumble over.
var hostile = []string{
	"yes", "no", "on", "Off", "y", "true", "null", "~", "", " ", "012", "0x1F", "0b11", "1:30", "190:20:30", "1e3", ".inf", "-.INF", ".nan",
	"2027-03-31", "2027-03-31 12:00:00", "<<", "=", "*ref", "&anchor", "!tag", "!!binary aGk=", "# no comment", "a # b", "key: value", "- item", "? q",
	"{a: b}", "[1, 2]", "%YAML 1.1", "---", "...", "@at", "`tick`", "|", ">", "'single'", `"double"`, `back\slash \n`, "tab\there", "two\nlines",
	"line\n", "\nlead", "a\nb\n", "a\n b\n\n", "  indented\nmore\n", "trailing  ", "  leading", "Ä ö ß ñ", "漢字", "😀 4 bytes", "عربي", "\u200b\u202e\u2028\u2029\u0085\ufeff", "\u00a0", "$(reboot)", "`id`", "%s%n",
	strings.Repeat("long ", 2000), "#cloud-config", "a\r\nb",
}

// rows are hostile texts and what chance makes of them.
func rows(n int) []string {
	chance := rand.New(rand.NewPCG(7, 11))
	all := slices.Clone(hostile)
	for len(all) < n {
		var b strings.Builder
		for range 1 + chance.IntN(4) {
			piece := []rune(hostile[chance.IntN(len(hostile))])
			if len(piece) > 200 {
				piece = piece[:200]
			}
			b.WriteString(string(piece[chance.IntN(len(piece)+1):]))
			b.WriteRune([]rune(" \n:#'\"\\-é\U0001F600")[chance.IntN(10)])
		}
		all = append(all, b.String())
	}
	return all
}

func roundTrip(t *testing.T, content []byte) map[string]any {
	t.Helper()
	var m map[string]any
	require.NoError(t, yaml.Unmarshal(content, &m), "%s", content)
	return m
}

func TestEveryTextArrivesUnchanged(t *testing.T) {
	for _, s := range hostile {
		m := mapping{{"text", s}, {"list", []string{s, s}}, {"deep", []mapping{{{"a", s}, {"b", mapping{{"c", s}}}}}}}
		got := roundTrip(t, m.encode())
		assert.Equal(t, s, got["text"])
		assert.Equal(t, []any{s, s}, got["list"])
		assert.Equal(t, []any{map[string]any{"a": s, "b": map[string]any{"c": s}}}, got["deep"])
	}
}

// PyYAML is what guests read YAML 1.1 with.
func TestEveryTextArrivesUnchangedInPyYAML(t *testing.T) {
	python := "/usr/bin/python3"
	if exec.Command(python, "-c", "import yaml").Run() != nil {
		t.Skip("skipped: python3-yaml is not installed")
	}
	all := rows(1000)
	var m mapping
	m.add("texts", all)
	for i, s := range all {
		m.add(fmt.Sprintf("k%d", i), s)
	}
	command := exec.Command(python, "-c", `import sys, yaml
d = yaml.safe_load(sys.stdin.buffer)
t = d["texts"]
for i, s in enumerate(t):
    assert s == "" or d["k%d" % i] == s, (i, s)
sys.stdout.buffer.write("\0".join(t).encode())`)
	command.Stdin = strings.NewReader(string(m.encode()))
	out, err := command.Output()
	require.NoError(t, err)
	assert.Equal(t, all, strings.Split(string(out), "\x00"))
}

func TestAnswers(t *testing.T) {
	in := answers.Input{Instance: "i-1", Secrets: answers.Secrets{Hashes: map[string]string{"survey": "$6$x$y"}, HostKeyPrivate: "-----BEGIN\nabc\n-----END\n", HostKeyPublic: "ssh-ed25519 A"}}
	in.Guest = machine.Guest{Hostname: "bms-sonar-01", Domain: "brackwater.example", Login: "survey", Password: machine.Generate, Timezone: "UTC", Firstboot: &machine.Firstboot{Packages: []string{"yes"}}}
	in.Adapters = []machine.Adapter{
		{Card: machine.Card{MAC: "02:00:00:00:00:01"}, Interface: machine.Interface{Addressing: machine.Addressing{Addresses: []netip.Prefix{netip.MustParsePrefix("198.51.100.7/24"), netip.MustParsePrefix("2001:db8::7/64")}, Gateways: []netip.Addr{netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("2001:db8::1")}, DNS: []netip.Addr{netip.MustParseAddr("198.51.100.2")}, Search: []string{"brackwater.example"}}}},
		{Card: machine.Card{MAC: "02:00:00:00:00:02"}, Interface: machine.Interface{Addressing: machine.Addressing{DHCP: true}}},
		{Card: machine.Card{MAC: "02:00:00:00:00:03"}},
	}
	got := map[string]map[string]any{}
	for _, f := range Files(in) {
		got[f.Name] = roundTrip(t, f.Content)
	}
	assert.Equal(t, map[string]any{"instance-id": "i-1", "local-hostname": "bms-sonar-01"}, got["meta-data"])
	user := got["user-data"]
	assert.Equal(t, "bms-sonar-01.brackwater.example", user["fqdn"])
	assert.Equal(t, []any{"yes"}, user["packages"])
	login := user["users"].([]any)[0].(map[string]any)
	assert.Equal(t, "$6$x$y", login["hashed_passwd"])
	assert.Equal(t, false, login["lock_passwd"])
	assert.Equal(t, in.Secrets.HostKeyPrivate, user["ssh_keys"].(map[string]any)["ed25519_private"])
	adapters := got["network-config"]["ethernets"].(map[string]any)
	assert.Equal(t, map[string]any{
		"match": map[string]any{"macaddress": "02:00:00:00:00:01"}, "set-name": "adapter1", "dhcp4": false, "dhcp6": false, "accept-ra": false,
		"addresses": []any{"198.51.100.7/24", "2001:db8::7/64"}, "gateway4": "198.51.100.1", "gateway6": "2001:db8::1",
		"nameservers": map[string]any{"addresses": []any{"198.51.100.2"}, "search": []any{"brackwater.example"}},
	}, adapters["adapter1"])
	assert.Equal(t, true, adapters["adapter2"].(map[string]any)["dhcp4"])
	assert.Equal(t, "mac", adapters["adapter2"].(map[string]any)["dhcp-identifier"])
	assert.NotContains(t, adapters["adapter2"], "accept-ra")
	assert.NotContains(t, adapters["adapter3"], "addresses")
	assert.Equal(t, Files(in), Files(in), "reproducible")

	in.Guest.Password, in.Secrets.Hashes = machine.NoPassword, nil
	text := string(Files(in)[2].Content)
	assert.Contains(t, text, "lock_passwd: true")
	assert.NotContains(t, text, "hashed_passwd")
}

func FuzzQuote(f *testing.F) {
	for _, s := range hostile {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if !utf8.ValidString(s) {
			return
		}
		m := mapping{{"text", s}, {"list", []string{s}}}
		got := roundTrip(t, m.encode())
		if got["text"] != s || got["list"].([]any)[0] != s {
			t.Fatalf("%q came back as %q", s, got["text"])
		}
	})
}
