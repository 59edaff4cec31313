package sheet

import (
	"regexp"
	"strconv"
	"strings"
	"unicode"

	"mintbatch/internal/core/finding"
)

// synonyms are what people write above our columns. They are compared without
// letter case, blanks, hyphens and underscores. docs/sheet.md lists them.
var synonyms = map[string][]string{
	"machine":    {"vm", "vm name", "name", "machine name", "server", "server name", "virtual machine", "guest", "guest name", "node name"},
	"address":    {"ip", "ip address", "ipv4", "ipv4 address", "ipv6", "ipv6 address", "addr", "addresses", "static ip"},
	"mac":        {"mac address", "hardware address"},
	"network":    {"net", "network name", "lan", "subnet name"},
	"memory":     {"ram", "mem", "memory size"},
	"cpus":       {"cpu", "vcpu", "vcpus", "cores", "cpu count", "cpu cores", "processors"},
	"disk":       {"disk size", "system disk", "root disk", "hdd", "storage"},
	"disks":      {"data disks", "data disk", "extra disks", "further disks"},
	"hostname":   {"host name", "computer name"},
	"domain":     {"dns domain", "domain name", "dns suffix"},
	"host":       {"hypervisor", "hypervisor host", "host server"},
	"store":      {"storage pool", "datastore"},
	"folder":     {"group"},
	"site":       {"location", "datacenter", "data center", "data centre"},
	"template":   {"image", "base image", "clone from", "master"},
	"preset":     {"role", "profile", "kind"},
	"clone":      {"clone type", "clone kind"},
	"login":      {"user", "user name", "account", "admin user"},
	"password":   {"pass", "passwd", "pwd"},
	"keys":       {"ssh key", "ssh keys", "public key", "public keys", "authorized keys"},
	"timezone":   {"time zone", "tz"},
	"locale":     {"language"},
	"licence":    {"license", "licence key", "license key", "product key"},
	"firstboot":  {"first boot"},
	"power":      {"power state"},
	"checkpoint": {"snapshot"},
	"owner":      {"contact", "responsible", "requested by", "requester"},
	"notes":      {"note", "remark", "remarks", "comment", "comments", "description", "purpose"},
	"until":      {"expires", "expiry", "expiry date", "end date", "valid until", "due"},
	"labels":     {"label", "tags"},
}

var meanings = func() map[string]string {
	m := map[string]string{}
	for name := range columns {
		m[folded(name)] = name
		for _, s := range synonyms[name] {
			m[folded(s)] = name
		}
	}
	return m
}()

func folded(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '-' || r == '_' || unicode.IsSpace(r) {
			return -1
		}
		return r
	}, strings.ToLower(strings.TrimSuffix(strings.TrimSpace(s), ":")))
}

// Rule is what the setup says of a heading that a user's own sheet has.
type Rule struct {
	Heading string
	Column  string // what it means; empty if the rule is no meaning
	Unit    string // of its bare numbers
	Ignore  bool
	// Fixed stands in every row, whatever the cells say.
	Fixed    string
	HasFixed bool
	At       finding.Position
}

var (
	unitInBrackets = regexp.MustCompile(`^(.*?)\s*[(\[]\s*(?:in\s+)?([A-Za-z]+)\s*[)\]]$`)
	unitBehind     = regexp.MustCompile(`^(.*?)[\s,/]+(?:in\s+)?([A-Za-z]+)$`)
	numberBehind   = regexp.MustCompile(`^(.*?)[\s.#_-]*([0-9]+)$`)
)

// ParseColumn tells what a heading means: `Memory (GiB)` is the memory column
// with a unit, `address.2` or `IP 2` that of the second adapter.
func ParseColumn(heading string) (Column, bool) {
	text := strings.TrimSpace(heading)
	c := Column{Heading: strings.Join(strings.Fields(text), " ")}
	if name, adapter, ok := meaning(text); ok {
		c.Name, c.Adapter = name, adapter
		return c, true
	}
	for _, pattern := range []*regexp.Regexp{unitInBrackets, unitBehind} {
		m := pattern.FindStringSubmatch(text)
		if m == nil {
			continue
		}
		name, _, ok := meaning(m[1])
		if _, unit := units[strings.ToLower(m[2])]; ok && unit && (name == "memory" || name == "disk") {
			c.Name, c.Unit = name, m[2]
			return c, true
		}
	}
	return c, false
}

// units are those that a heading may name.
var units = map[string]bool{"mb": true, "mib": true, "m": true, "gb": true, "gib": true, "g": true, "tb": true, "tib": true, "t": true, "kb": true, "kib": true}

// meaning tells the column, and for what belongs to an adapter which one.
func meaning(text string) (name string, adapter int, ok bool) {
	if name, ok = meanings[folded(text)]; ok {
		if columns[name] == perCard {
			adapter = 1
		}
		return name, adapter, true
	}
	m := numberBehind.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return "", 0, false
	}
	name, ok = meanings[folded(m[1])]
	n, err := strconv.Atoi(m[2])
	if !ok || err != nil || columns[name] != perCard || n < 1 || n > MaxAdapters || strconv.Itoa(n) != m[2] {
		return "", 0, false
	}
	return name, n, true
}

// understand tells what a heading means by the setup's rules, else by itself.
// ignored is set for one that is to be passed over.
func understand(heading string, rules []Rule) (c Column, ignored, ok bool) {
	for _, r := range rules {
		if folded(r.Heading) != folded(heading) {
			continue
		}
		if r.Ignore || r.HasFixed && r.Column == "" {
			return Column{Heading: heading}, true, true
		}
		c, ok = ParseColumn(r.Column)
		c.Heading = strings.Join(strings.Fields(heading), " ")
		if r.Unit != "" {
			c.Unit = r.Unit
		}
		return c, false, ok
	}
	c, ok = ParseColumn(heading)
	return c, false, ok
}
