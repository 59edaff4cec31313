package sandbox

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"strings"

	"github.com/kdomanski/iso9660"

	"mintbatch/internal/core/contract"
)

// boot is what a guest makes of its first boot: it looks for answers of a kind
// that it knows on the seed, and reports what it made of them. Without a
// readable seed it comes up as the template was: its name, and no address.
func boot(template TemplatePlan, adapters []adapter, seed []byte) (report contract.Report, instance string, has []contract.Check, g *guest) {
	g = &guest{report: contract.Report{Hostname: template.Hostname, Addresses: map[string][]string{}, Finished: true}, adapters: adapters}
	label, files, err := readSeed(seed)
	switch {
	case err != nil:
		g.fault("seed: %s", err)
	case strings.EqualFold(label, "cidata"):
		instance = g.cloudInit(files)
	case files["unattend.xml"] != nil:
		g.windows(files)
	case files["ovf-env.xml"] != nil:
		instance = g.ovf(files["ovf-env.xml"])
	case files["sandbox.json"] != nil:
		g.plain(files["sandbox.json"])
	default:
		g.fault("seed: no answers of any kind on the volume labelled %s", label)
	}
	return g.report, instance, g.has, g
}

// readSeed returns the label and the files of a seed, by their names in lower
// case. The library that reads ISO 9660 panics on some broken images; to a
// guest they are merely unreadable.
func readSeed(seed []byte) (label string, files map[string][]byte, err error) {
	defer func() {
		if p := recover(); p != nil {
			files, err = nil, fmt.Errorf("the volume is invalid: %v", p)
		}
	}()
	if len(seed) == 0 {
		return "", nil, fmt.Errorf("none found")
	}
	if isFAT(seed) {
		return readFAT(seed)
	}
	image, err := iso9660.OpenImage(bytes.NewReader(seed))
	if err != nil {
		return "", nil, err
	}
	if label, err = image.Label(); err != nil {
		return "", nil, err
	}
	root, err := image.RootDir()
	if err != nil {
		return "", nil, err
	}
	children, err := root.GetChildren()
	if err != nil {
		return "", nil, err
	}
	files = map[string][]byte{}
	for _, c := range children {
		if files[strings.ToLower(c.Name())], err = io.ReadAll(c.Reader()); err != nil {
			return "", nil, err
		}
	}
	return strings.TrimSpace(label), files, nil
}

type guest struct {
	report   contract.Report
	adapters []adapter
	has      []contract.Check
	stages   []stage
	home     string // where it is to report by itself
	cleans   bool   // its answers have it cleaned and switched off
}

func (g *guest) fault(format string, args ...any) {
	g.report.Errors = append(g.report.Errors, fmt.Sprintf(format, args...))
}

// card finds an adapter by its MAC address.
func (g *guest) card(mac string) (adapter, bool) {
	for _, a := range g.adapters {
		if strings.EqualFold(a.MAC, mac) {
			return a, true
		}
	}
	return adapter{}, false
}

// take gives an adapter an address, as it is written.
func (g *guest) take(mac, address string) {
	a, there := g.card(mac)
	p, err := netip.ParsePrefix(address)
	switch {
	case !there:
	case err != nil:
		g.fault("network: %q is not an address", address)
	default:
		g.report.Addresses[a.MAC] = append(g.report.Addresses[a.MAC], p.String())
	}
}

// lease takes what the network's DHCP server gives, and advertised what its
// router reports (RFC 4862).
func (g *guest) lease(mac string) {
	if a, there := g.card(mac); there && a.Lease.IsValid() {
		g.take(mac, a.Lease.String())
	}
}

func (g *guest) advertised(mac string) {
	a, there := g.card(mac)
	if !there || !a.Advertised.IsValid() {
		return
	}
	var m [6]byte
	if _, err := fmt.Sscanf(strings.ToLower(a.MAC), "%02x:%02x:%02x:%02x:%02x:%02x", &m[0], &m[1], &m[2], &m[3], &m[4], &m[5]); err != nil {
		return
	}
	b := a.Advertised.Addr().As16()
	copy(b[8:], []byte{m[0] ^ 2, m[1], m[2], 0xff, 0xfe, m[3], m[4], m[5]})
	g.take(mac, netip.PrefixFrom(netip.AddrFrom16(b), a.Advertised.Bits()).String())
}

// plain reads the sandbox guests' own answers, for those who try answers of
// their own: the report that the guest is to give.
func (g *guest) plain(content []byte) {
	var told struct {
		Hostname, FQDN, Timezone string
		Addresses                map[string][]string
		Logins                   []string
	}
	if err := json.Unmarshal(content, &told); err != nil {
		g.fault("sandbox.json: %s", err)
		return
	}
	g.report.Hostname, g.report.FQDN, g.report.Timezone, g.report.Logins = told.Hostname, told.FQDN, told.Timezone, told.Logins
	for mac, addresses := range told.Addresses {
		for _, a := range addresses {
			g.take(mac, a)
		}
	}
}
