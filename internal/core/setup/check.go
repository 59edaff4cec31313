package setup

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/answers/own"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/core/sheet"
)

// SiteKinds lists the kinds of site that this program can talk to.
var SiteKinds = []string{"gateway", "libvirt"}

// check holds the values against each other once each is right by itself.
func (s *Setup) check(found *finding.List) {
	bad := func(message, hint string, path ...string) {
		at := s.Where(path...)
		for i := len(path) - 1; at.IsZero() && i >= 0; i-- {
			at = s.Where(path[:i]...)
		}
		found.Add(finding.Finding{Code: "bad-setup", At: at, Message: message, Hint: hint})
	}
	if s.Version != 1 {
		bad("`mintbatch: 1` is missing, or of a form that this program does not know", "write `mintbatch: 1` first", "mintbatch")
	}
	if len(s.Sites) == 0 {
		bad("no site is defined", "name at least one under `sites`", "sites")
	}
	for name, site := range sorted(s.Sites) {
		if err := machine.CheckLabel(name); err != nil {
			bad(fmt.Sprintf("site name %q: %s", name, err), "use letters, digits and hyphens", "sites", name)
		}
		if !slices.Contains(SiteKinds, site.Kind) {
			bad(fmt.Sprintf("site %s has the unknown kind %q", name, site.Kind), finding.DidYouMean(site.Kind, SiteKinds), "sites", name, "kind")
		}
		if _, err := machine.ParsePrefix(site.MACs); err != nil {
			bad(err.Error(), "such as 52:54:00", "sites", name, "macs")
		}
		if site.Machines < 0 {
			bad("machines must be 1 or more", "", "sites", name, "machines")
		}
		for key, a := range sorted(map[string]AtOnce{"at_once": site.AtOnce, "at_once_per_host": site.PerHost, "at_once_per_store": site.PerStore}) {
			if min(a.Machines, a.Copies, a.Starts, a.Confirms) < 0 {
				bad("a limit must be 1 or more", "", "sites", name, key)
			}
		}
		s.checkSite(name, site, bad)
	}
	s.checkSecrets(bad)
	s.checkNames(bad)
	if _, err := proof.ParseWaves(s.Limits.Waves); err != nil {
		bad(err.Error(), "", "limits", "waves")
	}
	within := func(base ...string) complain {
		return func(message, hint string, path ...string) {
			bad(strings.Join(base[1:], " ")+": "+message, hint, append(base, path...)...)
		}
	}
	for name, p := range sorted(s.Presets) {
		in := within("presets", name)
		checkContents(p.Contents, in)
		for _, port := range p.Expect.Ports {
			if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 {
				in(fmt.Sprintf("%q is no TCP port", port), "from 1 to 65535", "expect", "ports")
			}
		}
		if m := p.Hash.Method; m != "" && m != "sha512" && m != "yescrypt" {
			in(fmt.Sprintf("passwords cannot be hashed with %q", m), "write sha512 or yescrypt", "hash")
		}
		if r := p.Hash.Rounds; r != 0 && (r < 1000 || r > 9999999 || p.Hash.Method == "yescrypt") {
			in("rounds are of sha512, and from 1000 to 9999999", "", "hash", "rounds")
		}
	}
	for name, c := range sorted(s.Firstboot) {
		checkContents(c, within("firstboot", name))
	}
	for name, t := range sorted(s.Templates) {
		s.checkTemplate(name, t, bad)
	}
	for name, n := range sorted(s.Networks) {
		if n.VLAN < 0 || n.VLAN > 4094 {
			bad(fmt.Sprintf("network %s: a VLAN tag is from 1 to 4094", name), "", "networks", name, "vlan")
		}
		for _, gateway := range n.Gateway {
			if !slices.ContainsFunc(n.Subnet, func(p netip.Prefix) bool { return p.Contains(gateway) }) {
				bad(fmt.Sprintf("gateway %s is not in a subnet of network %s", gateway, name), "", "networks", name, "gateway")
			}
		}
		oneEach(n.Subnet, func(p netip.Prefix) bool { return p.Addr().Is4() }, func() {
			bad(fmt.Sprintf("network %s has two subnets of one family", name), "make two networks of them", "networks", name, "subnet")
		})
		oneEach(n.Gateway, netip.Addr.Is4, func() {
			bad(fmt.Sprintf("network %s has two gateways of one family", name), "", "networks", name, "gateway")
		})
		if n.MTU != 0 && (n.MTU < 576 || n.MTU > 65535) {
			bad(fmt.Sprintf("network %s: the MTU is from 576 to 65535", name), "", "networks", name, "mtu")
		}
		if _, err := address.ParseWays(n.Look); err != nil {
			bad(fmt.Sprintf("network %s: %s", name, err), "", "networks", name, "look")
		}
		for i, r := range n.Routes {
			if !r.To.IsValid() || !r.Via.IsValid() || r.To.Addr().Is4() != r.Via.Is4() {
				bad(fmt.Sprintf("network %s: a route has a network and a router of its family", name), "such as {to: 203.0.113.0/24, via: 198.51.100.9}", "networks", name, "routes", fmt.Sprint(i))
			} else if !slices.ContainsFunc(n.Subnet, func(p netip.Prefix) bool { return p.Contains(r.Via) }) {
				bad(fmt.Sprintf("network %s: the router %s is not in its subnet", name, r.Via), "", "networks", name, "routes", fmt.Sprint(i))
			}
		}
		s.checkPools(name, n, bad)
	}
}

func (s *Setup) checkSecrets(bad complain) {
	for i, r := range s.Secrets.Recipients {
		if _, err := secret.ParseRecipients([]string{r}); err != nil {
			bad(err.Error(), "`mintbatch secret keygen FILE` prints one", "secrets", "recipients", fmt.Sprint(i))
		}
	}
	if _, err := secret.NewPolicy(s.Secrets.Passwords.Length, s.Secrets.Passwords.Classes); err != nil {
		bad(err.Error(), "", "secrets", "passwords")
	}
}

type complain func(message, hint string, path ...string)

// checkSite holds what a site says against its kind.
func (s *Setup) checkSite(name string, site Site, bad complain) {
	switch site.Kind {
	case "gateway":
		if !strings.HasPrefix(site.URL, "https://") {
			bad(fmt.Sprintf("site %s needs a url that begins with https://", name), "", "sites", name, "url")
		}
		if len(site.Hosts) > 0 {
			bad(fmt.Sprintf("site %s is a gateway, which knows its hosts itself", name), "hosts are named for kind: libvirt", "sites", name, "hosts")
		}
	case "libvirt":
		if len(site.Hosts) == 0 {
			bad(fmt.Sprintf("site %s names no hosts", name), "write hosts: {"+name+"-1: qemu:///system}", "sites", name)
		}
		if site.URL != "" {
			bad(fmt.Sprintf("site %s has hosts, and each of them has its url", name), "write hosts: {"+name+"-1: "+site.URL+"}", "sites", name, "url")
		}
	}
	for host, h := range sorted(site.Hosts) {
		path := []string{"sites", name, "hosts", host}
		if err := machine.CheckDomain(host); err != nil {
			bad(fmt.Sprintf("host name %q: %s", host, err), "use letters, digits, hyphens and dots", path...)
		}
		u, err := url.Parse(h.URL)
		switch {
		case err != nil || u.Scheme == "" || u.Path == "":
			bad(fmt.Sprintf("%q is not a libvirt URI", h.URL), "such as qemu:///system or qemu+ssh://root@kvm-1/system", path...)
		case !slices.Contains([]string{"qemu", "qemu+unix", "qemu+ssh", "qemu+tls"}, u.Scheme):
			bad(fmt.Sprintf("a libvirt URI of the scheme %q is not known", u.Scheme), finding.DidYouMean(u.Scheme, []string{"qemu", "qemu+unix", "qemu+ssh", "qemu+tls"}), path...)
		}
		if u != nil && u.User != nil {
			if _, has := u.User.Password(); has {
				bad("a password has no place in a URI", "write it as password: file:PATH beside url", path...)
			}
		}
	}
}

// checkTemplate holds what a template says against itself.
func (s *Setup) checkTemplate(name string, t Template, bad complain) {
	oneOf := func(key, value string, words ...string) {
		if value != "" && !slices.Contains(words, value) {
			path := append([]string{"templates", name}, strings.Split(key, "/")...)
			bad(fmt.Sprintf("template %s: %s must be %s, not %q", name, path[len(path)-1], strings.Join(words, " or "), value), finding.DidYouMean(value, words), path...)
		}
	}
	if !slices.Contains([]string{"linux", "windows"}, t.Guest) {
		bad(fmt.Sprintf("template %s has the unknown guest %q", name, t.Guest), "write guest: linux or guest: windows", "templates", name, "guest")
	}
	oneOf("answers", t.Answers, "cloud-init", "unattend", "ovf-env", "files", "none")
	if t.Answers == "unattend" && t.Guest != "windows" || t.Answers == "cloud-init" && t.Guest == "windows" {
		bad(fmt.Sprintf("template %s: a %s guest does not read %s", name, t.Guest, t.Answers), "leave answers out for what it reads", "templates", name, "answers")
	}
	s.checkOwn(name, t, bad)
	if store, volume, ok := strings.Cut(t.Volume, "/"); t.Volume != "" && (!ok || store == "" || volume == "") {
		bad(fmt.Sprintf("template %s: a volume is named store/volume, not %q", name, t.Volume), "such as templates/deb12.qcow2", "templates", name, "volume")
	}
	if t.Volume != "" && t.Source != "" {
		bad(fmt.Sprintf("template %s is a volume or a machine, not both", name), "remove source or volume", "templates", name, "volume")
	}
	if strings.Contains(t.Source, "/") {
		bad(fmt.Sprintf("template %s: no machine is named %q", name, t.Source), "a volume is named with volume: store/volume", "templates", name, "source")
	}
	oneOf("seed", t.Seed, "keep", "drop")
	oneOf("hardware/emulator", t.Hardware.Emulator, "kvm", "qemu")
	oneOf("hardware/bus", t.Hardware.Bus, "virtio", "scsi", "sata")
	oneOf("hardware/display", t.Hardware.Display, "on", "off")
	oneOf("hardware/console", t.Hardware.Console, "on", "off")
	if t.Hardware.Sockets < 0 || t.Hardware.Sockets > 64 {
		bad(fmt.Sprintf("template %s: sockets must be from 1 to 64", name), "", "templates", name, "hardware", "sockets")
	}
}

// checkOwn holds templates of answers against what a seed can carry.
func (s *Setup) checkOwn(name string, t Template, bad complain) {
	o := t.Own
	path := []string{"templates", name, "own_answers"}
	if t.Answers != "files" {
		if len(o.Files) > 0 {
			bad(fmt.Sprintf("template %s has answers of its own and does not use them", name), "write answers: files", path...)
		}
		return
	}
	if o.Kind != "" && o.Kind != "iso" && o.Kind != "fat" {
		bad(fmt.Sprintf("template %s: a seed is iso or fat, not %q", name, o.Kind), "", append(path, "kind")...)
	}
	if len(o.Files) == 0 {
		bad(fmt.Sprintf("template %s has answers: files and names no files", name), "write own_answers: {label: ANSWERS, files: [{name: answers.txt, text: file:answers.tmpl}]}", path...)
	}
	var files []media.File
	for i, f := range o.Files {
		files = append(files, media.File{Name: f.Name})
		if err := own.Parse(f); err != nil {
			bad(fmt.Sprintf("template %s: %s", name, err), "see the Go package text/template", append(path, "files", fmt.Sprint(i), "text")...)
		}
	}
	if err := media.Check(media.Kind(cmp.Or(o.Kind, "iso")), o.Label, files); err != nil {
		bad(fmt.Sprintf("template %s: %s", name, err), "", path...)
	}
}

func (s *Setup) checkPools(name string, n Network, bad complain) {
	var before []address.Pool
	for pool, p := range sorted(n.Pools) {
		path := []string{"networks", name, "pools", pool}
		if len(p.Ranges) == 0 {
			bad(fmt.Sprintf("pool %s has no ranges", pool), "", path...)
		}
		if c := address.Choice(p.Choice); c != "" && c != address.Lowest && c != address.Sticky && c != address.Spread {
			bad(fmt.Sprintf("pool %s: the choice must be lowest, sticky or spread, not %q", pool, p.Choice), finding.DidYouMean(p.Choice, []string{"lowest", "sticky", "spread"}), append(path, "choice")...)
		}
		if p.Pair.Or(false) && len(n.Subnet) < 2 {
			bad(fmt.Sprintf("pool %s makes pairs, and network %s has one family only", pool, name), "name a subnet of each family", append(path, "pair")...)
		}
		built, err := address.NewPool(pool, s.bare(name), p.Ranges, p.Skip)
		if err != nil {
			bad(fmt.Sprintf("pool %s: %s", pool, err), "", append(path, "ranges")...)
			continue
		}
		for _, other := range before {
			if a, both := built.Overlaps(other); both {
				bad(fmt.Sprintf("pools %s and %s both hand out %s", other.Name, pool, a), "skip it in one of them", append(path, "ranges")...)
			}
		}
		before = append(before, built)
	}
}

// checkNames holds the parts against each other that refer by name.
func (s *Setup) checkNames(bad complain) {
	for name, p := range sorted(s.Presets) {
		if _, known := s.Presets[p.From]; p.From != "" && !known {
			bad(fmt.Sprintf("preset %s builds on the unknown preset %q", name, p.From), finding.DidYouMean(p.From, Names(s.Presets)), "presets", name, "from")
		}
		seen := map[string]bool{}
		for at := name; at != ""; at = s.Presets[at].From {
			if seen[at] {
				bad(fmt.Sprintf("preset %s builds on itself", name), "", "presets", name, "from")
				break
			}
			seen[at] = true
		}
	}
	for heading, c := range sorted(s.Columns) {
		name := c.Column
		if name == "" && c.Fixed != nil {
			name = heading
		}
		if _, known := sheet.ParseColumn(name); !known && name != "ignore" {
			bad(fmt.Sprintf("heading %q is to mean the unknown column %q", heading, name), finding.DidYouMean(name, append(sheet.ColumnNames(), "ignore")), "columns", heading)
		}
		if _, err := machine.ParseSize("1" + c.Unit); c.Unit != "" && err != nil {
			bad(fmt.Sprintf("%q is not a unit", c.Unit), "write MiB, GiB or TiB", "columns", heading, "unit")
		}
	}
	rules := map[string]NameRule{"": s.Naming.NameRule}
	for preset, r := range sorted(s.Naming.Presets) {
		rules[preset] = r
		if _, known := s.Presets[preset]; !known {
			bad(fmt.Sprintf("a naming rule is for the unknown preset %q", preset), finding.DidYouMean(preset, Names(s.Presets)), "naming", "presets", preset)
		}
	}
	for preset, r := range sorted(rules) {
		path := []string{"naming", "presets", preset}
		if preset == "" {
			path = path[:1]
		}
		if _, err := regexp.Compile(r.Pattern); err != nil {
			bad(fmt.Sprintf("the pattern is not a regular expression: %s", err), "", append(path, "pattern")...)
		}
		if r.Hostname != "" && r.Hostname != "follows" && r.Hostname != "free" {
			bad(fmt.Sprintf("hostname must be follows or free, not %q", r.Hostname), "", append(path, "hostname")...)
		}
	}
}

func oneEach[T any](all []T, is4 func(T) bool, bad func()) {
	seen := map[bool]bool{}
	for _, v := range all {
		if seen[is4(v)] {
			bad()
			return
		}
		seen[is4(v)] = true
	}
}

// sorted walks a map in the order of its keys, so that findings are told in
// the same order every time.
func sorted[V any](m map[string]V) func(yield func(string, V) bool) {
	return func(yield func(string, V) bool) {
		for _, k := range slices.Sorted(maps.Keys(m)) {
			if !yield(k, m[k]) {
				return
			}
		}
	}
}

func (s *Setup) bare(name string) address.Network {
	n := s.Networks[name]
	return address.Network{Name: name, Subnets: n.Subnet, Gateways: n.Gateway, DNS: n.DNS, Search: n.Search, Routes: n.Routes}
}

// AddressNetworks gives the networks and pools of a checked setup to the
// address computation.
func (s *Setup) AddressNetworks() map[string]address.Network {
	all := make(map[string]address.Network, len(s.Networks))
	for name := range s.Networks {
		n := s.bare(name)
		for pool, p := range sorted(s.Networks[name].Pools) {
			built, err := address.NewPool(pool, n, p.Ranges, p.Skip)
			if err != nil { // check has refused it
				continue
			}
			built.Choice, built.Pair = address.Choice(cmp.Or(p.Choice, string(address.Lowest))), p.Pair.Or(false)
			n.Pools = append(n.Pools, built)
		}
		all[name] = n
	}
	return all
}

// Names lists the names that a part of the setup defines, in order.
func Names[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// Lineage lists a preset and those that it builds on, itself first.
func (s *Setup) Lineage(preset string) []string {
	var line []string
	for at := preset; at != "" && !slices.Contains(line, at); at = s.Presets[at].From {
		line = append(line, at)
	}
	return line
}

// Rules gives the setup's say on headings to the sheet's reader.
func (s *Setup) Rules() []sheet.Rule {
	var rules []sheet.Rule
	for heading, c := range sorted(s.Columns) {
		r := sheet.Rule{Heading: heading, Column: c.Column, Unit: c.Unit, Ignore: c.Column == "ignore", At: s.Where("columns", heading)}
		if c.Fixed != nil {
			r.Fixed, r.HasFixed = *c.Fixed, true
		}
		rules = append(rules, r)
	}
	return rules
}
