package handover

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/site"
	"mintbatch/internal/site/gateway"
	"mintbatch/internal/site/libvirt"
)

// SiteAddress says where the site of a new setup is: a gateway, or hosts under libvirt.
type SiteAddress struct {
	Gateway     string
	Token       string // the file that has the gateway's token
	Fingerprint string
	Libvirt     []string // URIs of hosts
}

// None reports whether nothing is said.
func (s SiteAddress) None() bool { return s.Gateway == "" && len(s.Libvirt) == 0 }

// ErrNothingThere means that a site can be reached, and has nothing to make machines from.
var ErrNothingThere = errors.New("the site has no template and no shut-off machine to clone; make one, or write the setup by hand")

// FoundSite is a site with what it has.
type FoundSite struct {
	at     SiteAddress
	name   string
	hosts  map[string]string // of libvirt, their URIs
	survey *contract.Survey
}

// FindSite tries a site, and reads what it has. readToken reads a file with a token.
func FindSite(ctx context.Context, at SiteAddress, readToken func(path string) (string, error)) (*FoundSite, error) {
	f := &FoundSite{at: at, hosts: map[string]string{}}
	opened, err := f.open(readToken)
	if err != nil {
		return nil, err
	}
	if c, ok := opened.(interface{ Close() }); ok {
		defer c.Close()
	}
	f.survey, err = opened.Survey(ctx)
	if err == nil && len(f.templates()) == 0 {
		err = ErrNothingThere
	}
	return f, err
}

func (f *FoundSite) open(readToken func(string) (string, error)) (site.Site, error) {
	if f.at.Gateway == "" {
		addresses := map[string]libvirt.Address{}
		for i, text := range f.at.Libvirt {
			u, err := url.Parse(text)
			if err != nil || u.Scheme == "" {
				return nil, fmt.Errorf("%q is no address of a host; write for example qemu+ssh://root@hv1.example/system", text)
			}
			name, _, _ := strings.Cut(u.Hostname(), ".")
			if machine.CheckLabel(name) != nil {
				name = fmt.Sprintf("host%d", i+1)
			}
			addresses[name], f.hosts[name] = libvirt.Address{URL: u}, text
			f.name = cmp.Or(f.name, name)
		}
		return libvirt.New(libvirt.Options{Hosts: addresses})
	}
	u, err := url.Parse(f.at.Gateway)
	if err != nil || u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q is no address of a gateway; write for example https://gateway.example/quay", f.at.Gateway)
	}
	if f.name = strings.ToLower(path.Base(u.Path)); machine.CheckLabel(f.name) != nil {
		f.name = "site"
	}
	token, err := readToken(f.at.Token)
	if err != nil {
		return nil, err
	}
	var print secret.Fingerprint
	if f.at.Fingerprint != "" {
		if err := print.UnmarshalText([]byte(f.at.Fingerprint)); err != nil {
			return nil, err
		}
	}
	return gateway.New(gateway.Options{URL: u, Token: token, Fingerprint: print, Retries: -1}), nil
}

// templates are what can be cloned there.
func (f *FoundSite) templates() []string {
	var all []string
	for _, t := range f.survey.Templates {
		all = append(all, t.Name)
	}
	for _, m := range f.survey.Machines {
		if m.Mark == nil && m.Power == machine.Off && !slices.Contains(all, m.Name) {
			all = append(all, m.Name)
		}
	}
	return slices.DeleteFunc(all, func(name string) bool { return strings.Contains(name, "/") })
}

// setup is a setup in a folder for the site, with the names that it really has.
func (f *FoundSite) setup(dir string) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# yaml-language-server: $schema=mintbatch.schema.json")
	line("# What was found at the site; what is not to be used can be taken out. Then:")
	line("#   mintbatch setup check --sites    tries the site again")
	line("#   mintbatch check                  reads the sheet, machines.xlsx")
	line("#   mintbatch proof                  shows what a mint would make")
	line("mintbatch: 1\nsheet: machines.xlsx\nledger: mintbatch.ledger # the record of all that was made; keep it\n\nsites:\n  %s:", f.name)
	if f.at.Gateway != "" {
		line("    kind: gateway\n    url: %q", f.at.Gateway)
		if f.at.Fingerprint != "" {
			line("    fingerprint: %q", f.at.Fingerprint)
		}
		line("    token: %q", "file:"+relative(dir, f.at.Token))
	} else {
		line("    kind: libvirt\n    hosts:")
		for _, name := range slices.Sorted(maps.Keys(f.hosts)) {
			line("      %s: %q", name, f.hosts[name])
		}
	}
	templates := f.templates()
	isWindows := func(name string) bool { return strings.Contains(strings.ToLower(name), "win") }
	slices.SortStableFunc(templates, func(a, b string) int { return strings.Compare(fmt.Sprint(isWindows(a)), fmt.Sprint(isWindows(b))) })
	line("\ntemplates: # the guests are guessed by the names")
	for i, t := range templates {
		switch {
		case !isWindows(t):
			line("  %q: {guest: linux}", t)
		case i == 0:
			line("  %q: {guest: windows}", t)
		default:
			line("  # %q: {guest: windows} # needs a password: see secrets in the setup's page", t)
		}
	}
	line("\nnetworks: # with a subnet, addresses can be given or drawn from pools\n  # NAME: {subnet: 198.51.100.0/24, gateway: 198.51.100.1, dns: 198.51.100.2, pools: {nodes: 198.51.100.100-198.51.100.180}}")
	for _, n := range f.survey.Networks {
		line("  %q: {}", n)
	}
	line("\ndefaults: # what a row and its preset leave empty\n  site: %s\n  template: %q", f.name, templates[0])
	if len(f.survey.Networks) > 0 {
		line("  network: %q\n  address: dhcp", f.survey.Networks[0])
	}
	line("  login: steward\n  # keys: file:operator.pub # your public SSH key, to log in with\n  password: none")
	line("\npresets: # bundles of defaults; a row names one\n  small:\n    cpus: 1\n    memory: 1GiB\n  large:\n    extends: small\n    cpus: 4\n    memory: 8GiB")
	return b.String()
}

// relative is a file as a setup in a folder names it.
func relative(dir, file string) string {
	from, err := filepath.Abs(dir)
	if err != nil {
		return file
	}
	whole, err := filepath.Abs(file)
	if err != nil {
		return file
	}
	if near, err := filepath.Rel(from, whole); err == nil && filepath.IsLocal(near) {
		return filepath.ToSlash(near)
	}
	return filepath.ToSlash(whole)
}
