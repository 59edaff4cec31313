package setup

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/answers/own"
	"mintbatch/internal/core/column"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
	"mintbatch/internal/core/sheet"
)

// check holds the values against each other once each is right by itself.
func (s *Setup) check(found *finding.List) {
	bad := func(message, hint string, path ...string) {
		at := s.Where(path...)
		for i := len(path) - 1; at.IsZero() && i >= 0; i-- {
			at = s.Where(path[:i]...)
		}
		s.broken[path[0]] = true
		found.Add(finding.Finding{Code: "bad-setup", At: at, Message: message, Hint: hint})
	}
	if s.Version != 1 {
		bad("`mintbatch: 1` is missing, or this program does not support that version", "write `mintbatch: 1` first", "mintbatch")
	}
	if len(s.Sites) == 0 {
		bad("no site is defined", "name at least one under `sites`", "sites")
	}
	switch c := s.CallHome; {
	case c.URL.URL != nil && c.URL.Scheme != "http":
		bad("mintbatch listens for calls without TLS: write http://", "", "call_home", "url")
	case c.URL.URL != nil && !c.Listen.IsValid():
		bad("call_home has no address to listen at", "write for example listen: 198.51.100.2:8700", "call_home")
	case c.URL.URL == nil && c.Listen.IsValid() && c.Listen.Addr().IsUnspecified():
		bad("guests cannot call an address that stands for all of a computer's", "name one of them, or write how they reach it as url", "call_home", "listen")
	}
	if s.Backups.Keep < 0 {
		bad("the number of copies must be 0 or more", "", "backups", "keep")
	}
	for name, site := range sorted(s.Sites) {
		if err := machine.CheckLabel(name); err != nil {
			bad(fmt.Sprintf("site name %q: %s", name, err), "use letters, digits and hyphens", "sites", name)
		}
		if site.Kind == "" {
			bad(fmt.Sprintf("site %s has no kind", name), "write kind: gateway or kind: libvirt", "sites", name)
		}
		for key, p := range sorted(map[string]Parallel{"parallel": site.Parallel, "parallel_per_host": site.PerHost, "parallel_per_store": site.PerStore}) {
			if min(p.Machines, p.FullClones, p.Starts, p.Confirms) < 0 {
				bad("a limit must be 1 or more", "", "sites", name, key)
			}
		}
		s.checkSite(name, site, bad)
	}
	s.checkNames(bad)
	within := func(base ...string) report {
		return func(message, hint string, path ...string) {
			bad(strings.Join(base[1:], " ")+": "+message, hint, append(base, path...)...)
		}
	}
	for name, p := range sorted(s.Presets) {
		in := within("presets", name)
		checkContents(p.Contents, in)
		if r := p.Hash.Rounds; r != 0 && (r < 1000 || r > 9999999 || p.Hash.Method == machine.Yescrypt) {
			in("rounds apply to sha512 only and must be from 1000 to 9999999", "", "password_hash", "rounds")
		}
	}
	for name, c := range sorted(s.Firstboot) {
		checkContents(c, within("firstboot", name))
	}
	for name, t := range sorted(s.Templates) {
		s.checkTemplate(name, t, bad)
	}
	s.checkAround(bad)
	s.checkNotices(bad)
	s.checkQuotas(bad)
	s.checkRequests(bad)
	for name, l := range sorted(s.Libraries) {
		s.checkLibrary(name, l, bad)
	}
	for name, n := range sorted(s.Networks) {
		if n.VLAN < 0 || n.VLAN > 4094 {
			bad(fmt.Sprintf("network %s: a VLAN id must be from 1 to 4094", name), "", "networks", name, "vlan")
		}
		for _, gateway := range n.Gateway {
			if !gateway.IsLinkLocalUnicast() && !slices.ContainsFunc(n.Subnet, func(p netip.Prefix) bool { return p.Contains(gateway) }) {
				bad(fmt.Sprintf("gateway %s is not in a subnet of network %s", gateway, name), "", "networks", name, "gateway")
			}
		}
		oneEach(n.Subnet, func(p netip.Prefix) bool { return p.Addr().Is4() }, func() {
			bad(fmt.Sprintf("network %s has two subnets of the same family", name), "define two networks", "networks", name, "subnet")
		})
		oneEach(n.Gateway, netip.Addr.Is4, func() {
			bad(fmt.Sprintf("network %s has two gateways of the same family", name), "", "networks", name, "gateway")
		})
		if n.MTU != 0 && (n.MTU < 576 || n.MTU > 65535) {
			bad(fmt.Sprintf("network %s: the MTU must be from 576 to 65535", name), "", "networks", name, "mtu")
		}
		for i, r := range n.Routes {
			if !r.To.IsValid() || !r.Via.IsValid() || r.To.Addr().Is4() != r.Via.Is4() {
				bad(fmt.Sprintf("network %s: a route needs a destination network and a router of the same family", name), "write for example {to: 203.0.113.0/24, via: 198.51.100.9}", "networks", name, "routes", fmt.Sprint(i))
			} else if !slices.ContainsFunc(n.Subnet, func(p netip.Prefix) bool { return p.Contains(r.Via) }) {
				bad(fmt.Sprintf("network %s: the router %s is not in its subnet", name, r.Via), "", "networks", name, "routes", fmt.Sprint(i))
			}
		}
		s.checkPools(name, n, bad)
	}
}

// checkLibrary holds a library against itself.
func (s *Setup) checkLibrary(name string, l Library, bad report) {
	local := l.URL.URL != nil && slices.Contains([]string{"localhost", "127.0.0.1", "::1"}, l.URL.Hostname())
	switch {
	case (l.URL.URL == nil) == (l.Folder == ""):
		bad(fmt.Sprintf("library %s is a registry or a folder", name), "write one of url and folder", "libraries", name)
	case l.URL.URL == nil:
	case l.URL.Scheme != "https" && (l.URL.Scheme != "http" || !local), strings.Trim(l.URL.Path, "/") == "":
		bad(fmt.Sprintf("library %s: the address of a registry is https://HOST/REPOSITORY", name), "", "libraries", name, "url")
	}
	for _, k := range l.Signers {
		if machine.IsSealed(k) {
			bad(fmt.Sprintf("library %s: a public key is no secret", name), "write the key, or file:PATH", "libraries", name, "signers")
		}
	}
}

type report func(message, hint string, path ...string)

// checkSite holds what a site says against its kind.
func (s *Setup) checkSite(name string, site Site, bad report) {
	switch site.Kind {
	case Gateway:
		if site.URL.IsZero() || site.URL.Scheme != "https" {
			bad(fmt.Sprintf("site %s needs a url that begins with https://", name), "", "sites", name, "url")
		}
		if !site.URL.IsZero() && site.URL.User != nil {
			bad(fmt.Sprintf("the url of site %s contains a login", name), "remove it; a gateway uses a token: write token: file:PATH", "sites", name, "url")
		}
		if len(site.Hosts) > 0 {
			bad(fmt.Sprintf("site %s is a gateway and cannot have hosts here", name), "remove hosts, or write kind: libvirt", "sites", name, "hosts")
		}
	case Libvirt:
		if len(site.Hosts) == 0 {
			bad(fmt.Sprintf("site %s names no hosts", name), "write hosts: {"+name+"-1: qemu:///system}", "sites", name)
		}
		if !site.URL.IsZero() {
			bad(fmt.Sprintf("site %s has kind: libvirt, where each host has its own url", name), "write hosts: {"+name+"-1: "+site.URL.String()+"}", "sites", name, "url")
		}
	}
	s.checkFolder(name, site, bad)
	schemes := []string{"qemu", "qemu+unix", "qemu+ssh", "qemu+tls"}
	for host, h := range sorted(site.Hosts) {
		path := []string{"sites", name, "hosts", host}
		if err := machine.CheckDomain(host); err != nil {
			bad(fmt.Sprintf("host name %q: %s", host, err), "use letters, digits, hyphens and dots", path...)
		}
		switch {
		case h.URL.IsZero() || h.URL.Path == "":
			bad(fmt.Sprintf("%q is not a libvirt URI", h.URL), "write for example qemu:///system or qemu+ssh://root@kvm-1/system", path...)
		case !slices.Contains(schemes, h.URL.Scheme):
			bad(fmt.Sprintf("unknown scheme %q in a libvirt URI", h.URL.Scheme), finding.DidYouMean(h.URL.Scheme, schemes), path...)
		}
	}
}

// checkFolder holds what a site says that is a folder, and that no other says it.
func (s *Setup) checkFolder(name string, site Site, bad report) {
	is := site.Kind == Folder
	for _, key := range []struct {
		name  string
		there bool
	}{{"path", site.Path != ""}, {"format", site.Format != ""}, {"describe", len(site.Describe) > 0}} {
		switch {
		case !is && key.there:
			bad(fmt.Sprintf("site %s is no folder and cannot have %s", name, key.name), "remove it, or write kind: folder", "sites", name, key.name)
		case is && !key.there && key.name != "describe":
			bad(fmt.Sprintf("site %s is a folder and needs %s", name, key.name), "write for example path: /media/classroom and format: vhdx", "sites", name)
		}
	}
	if is && string(site.Format) == "vhdx" && slices.Contains(site.Describe, "libvirt") {
		bad(fmt.Sprintf("site %s: libvirt has no disks of the format vhdx", name), "write describe: [ovf], or another format", "sites", name, "describe")
	}
	if is && (!site.URL.IsZero() || len(site.Hosts) > 0) {
		bad(fmt.Sprintf("site %s is a folder and cannot have a url or hosts", name), "write path: instead", "sites", name)
	}
}

// checkTemplate holds what a template says against itself.
func (s *Setup) checkTemplate(name string, t Template, bad report) {
	if t.Guest == "" {
		bad(fmt.Sprintf("template %s names no guest", name), "write guest: linux or guest: windows", "templates", name)
	}
	if k := kinds.Named(t.Kind()); t.Guest != "" && k.Reads() && !slices.Contains(k.Guests, string(t.Guest)) {
		bad(fmt.Sprintf("template %s: a %s guest does not read %s", name, t.Guest, t.Answers), "remove answers to use the default for this guest", "templates", name, "answers")
	}
	s.checkOwn(name, t, bad)
	if store, volume, ok := strings.Cut(t.Volume, "/"); t.Volume != "" && (!ok || store == "" || volume == "") {
		bad(fmt.Sprintf("template %s: a volume must be given as store/volume, not %q", name, t.Volume), "write for example templates/deb12.qcow2", "templates", name, "volume")
	}
	if t.Volume != "" && t.Source != "" {
		bad(fmt.Sprintf("template %s names both a volume and a machine", name), "remove source or volume", "templates", name, "volume")
	}
	if _, _, err := machine.ParseSource(t.Source); err != nil {
		bad(fmt.Sprintf("template %s: %s", name, err), "write machine:NAME, or machine:NAME@CHECKPOINT", "templates", name, "source")
	}
	if strings.Contains(t.Source, "/") {
		bad(fmt.Sprintf("template %s: %q is not a machine name", name, t.Source), "for a volume, write volume: store/volume", "templates", name, "source")
	}
	if h := t.Hardware; t.Volume == "" && (h.SecureBoot != "" || h.TPM != "" || h.Clock != "") {
		bad(fmt.Sprintf("template %s: secure_boot, tpm and clock are for a bare volume: a template machine has its own", name), "remove them", "templates", name, "hardware")
	}
	if t.Hardware.Sockets < 0 || t.Hardware.Sockets > 64 {
		bad(fmt.Sprintf("template %s: sockets must be from 1 to 64", name), "", "templates", name, "hardware", "sockets")
	}
}

// checkOwn holds templates of answers against what a seed can carry.
func (s *Setup) checkOwn(name string, t Template, bad report) {
	o := t.Own
	path := []string{"templates", name, "custom_answers"}
	if t.Kind() != own.Name {
		if len(o.Files) > 0 {
			bad(fmt.Sprintf("template %s has custom_answers but does not use them", name), "write answers: files", path...)
		}
		return
	}
	if len(o.Files) == 0 {
		bad(fmt.Sprintf("template %s has answers: files but names no files", name), "write custom_answers: {label: ANSWERS, files: [{name: answers.txt, text: file:answers.tmpl}]}", path...)
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

// checkPools builds the network that addresses are assigned from.
func (s *Setup) checkPools(name string, n Network, bad report) {
	built := address.Network{Name: name, Subnets: n.Subnet, Gateways: n.Gateway, DNS: n.DNS, Search: n.Search, Routes: n.Routes}
	for pool, p := range sorted(n.Pools) {
		path := []string{"networks", name, "pools", pool}
		if len(p.Ranges) == 0 {
			bad(fmt.Sprintf("pool %s has no ranges", pool), "", path...)
		}
		if p.DualStack.Or(false) && len(n.Subnet) < 2 {
			bad(fmt.Sprintf("pool %s is dual-stack, but network %s has only one family", pool, name), "give the network a subnet of each family", append(path, "dual_stack")...)
		}
		one, err := address.NewPool(pool, built, p.Ranges, p.Exclude)
		if err != nil {
			bad(fmt.Sprintf("pool %s: %s", pool, err), "", append(path, "ranges")...)
			continue
		}
		for _, other := range built.Pools {
			if a, both := one.Overlaps(other); both {
				bad(fmt.Sprintf("pools %s and %s both contain %s", other.Name, pool, a), "exclude it from one of them", append(path, "ranges")...)
			}
		}
		one.Allocation, one.Pair = cmp.Or(p.Allocation, address.Lowest), p.DualStack.Or(false)
		built.Pools = append(built.Pools, one)
	}
	s.networks[name] = built
	for _, subnet := range n.Subnet {
		s.lengths[subnet.Bits()] = true
		s.subnets[subnet.Masked()] = append(s.subnets[subnet.Masked()], name)
	}
	if source := s.NetworkSource(name); s.sources[source] == "" {
		s.sources[source] = name
	}
}

// checkNames holds the parts against each other that refer by name.
func (s *Setup) checkNames(bad report) {
	for name, p := range sorted(s.Presets) {
		if _, known := s.Presets[p.From]; p.From != "" && !known {
			bad(fmt.Sprintf("preset %s extends the unknown preset %q", name, p.From), finding.DidYouMean(p.From, Names(s.Presets)), "presets", name, "extends")
		}
		seen := map[string]bool{}
		for at := name; at != ""; at = s.Presets[at].From {
			if seen[at] {
				bad(fmt.Sprintf("preset %s extends itself", name), "", "presets", name, "extends")
				break
			}
			seen[at] = true
		}
	}
	for heading, c := range sorted(s.Columns) {
		if c.Column != (Target{}) || c.Fixed == nil {
			continue
		}
		means, known := sheet.ParseColumn(heading)
		if !known {
			bad(fmt.Sprintf("heading %q is mapped to the unknown column %q", heading, heading), finding.DidYouMean(heading, column.Names()), "columns", heading)
		}
		c.Column = Target{Column: means, Ignore: true} // the value is known without the cells
		s.Columns[heading] = c
	}
	for preset := range sorted(s.Naming.Presets) {
		if _, known := s.Presets[preset]; !known {
			bad(fmt.Sprintf("a naming rule names the unknown preset %q", preset), finding.DidYouMean(preset, Names(s.Presets)), "naming", "presets", preset)
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

// sorted walks a map in the order of its keys, so that findings are reported in
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

// AddressNetworks returns the networks that addresses are assigned from, by name.
func (s *Setup) AddressNetworks() map[string]address.Network { return s.networks }

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
		r := sheet.Rule{Heading: heading, Column: c.Column.Column, Unit: string(c.Unit), Ignore: c.Column.Ignore, Fixed: c.Fixed, At: s.Where("columns", heading)}
		rules = append(rules, r)
	}
	return rules
}
