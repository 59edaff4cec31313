// Package setup is the setup file: where machines are made, from what, on
// which networks and with which presets.
package setup

import (
	"cmp"
	"errors"
	"net/netip"
	"time"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/survey"
)

// Setup is a setup file that was read without errors. Each field's `key` is
// its name in the file; `doc` explains it.
type Setup struct {
	Version   int                 `key:"mintbatch" doc:"version of the file's form: 1"`
	Sheet     string              `key:"sheet" doc:"the inventory sheet, relative to this file"`
	Ledger    string              `key:"ledger" doc:"the ledger's file, relative to this file, or a database that several share, postgres://USER@HOST/DATABASE"`
	Columns   map[string]Column   `key:"columns" doc:"what the headings of a user's own sheet mean"`
	Naming    Naming              `key:"naming" doc:"how machines are to be named"`
	Defaults  Values              `key:"defaults" doc:"columns that a row, its preset and its template leave empty"`
	Sites     map[string]Site     `key:"sites" doc:"where machines are made"`
	Templates map[string]Template `key:"templates" doc:"what machines are cloned from"`
	Networks  map[string]Network  `key:"networks" doc:"what machines are connected to"`
	Presets   map[string]Preset   `key:"presets" doc:"named bundles of column defaults and first-boot contents"`
	Firstboot map[string]Contents `key:"firstboot" doc:"named first-boot contents that rows and presets refer to"`
	Secrets   Secrets             `key:"secrets" doc:"who can read what is sealed"`
	Events    Events              `key:"events" doc:"the logs of runs"`
	Limits    Limits              `key:"limits" doc:"how much goes on side by side, and for how long"`

	positions map[string]finding.Position
	fetch     Fetch
}

// Values are column defaults: the text that would stand in a cell, by column.
type Values map[string]string

// Column is what a heading means. In short it is just the column's name.
type Column struct {
	Column string  `key:"column" short:"yes" doc:"the column that it means, or ignore"`
	Unit   string  `key:"unit" doc:"of its bare numbers: MiB, GiB, TiB"`
	Fixed  *string `key:"fixed" doc:"stands in every row, whatever the cells say"`
}

// Naming is how machines are to be named: for all, and for those of a preset.
type Naming struct {
	NameRule
	Presets map[string]NameRule `key:"presets" doc:"rules for the machines of a preset, besides those for all"`
}

// NameRule is what a machine's name has to be like.
type NameRule struct {
	Prefix    string   `key:"prefix" doc:"every name begins with it"`
	Pattern   string   `key:"pattern" doc:"a regular expression that the whole name matches"`
	Longest   int      `key:"longest" doc:"most characters of a name"`
	Lowercase bool     `key:"lowercase" doc:"names are taken in lower case"`
	Hostname  string   `key:"hostname" doc:"follows: the host name must be the machine's name"`
	Reserved  []string `key:"reserved" doc:"names that no machine may have"`
}

// Site is one place where machines are made.
type Site struct {
	Kind        string    `key:"kind" doc:"gateway or libvirt"`
	URL         string    `key:"url" doc:"gateway: address of the site's manager"`
	Fingerprint string    `key:"fingerprint" doc:"gateway: SHA-256 of the certificate to trust, for one that no authority signed"`
	Token       Reference `key:"token" doc:"gateway: the bearer token, best as file:PATH or env:NAME"`
	Machines    int       `key:"machines" doc:"how many machines the site does something to side by side (default 8)"`
	AtOnce      AtOnce    `key:"at_once" doc:"how many acts of a kind are under way at once at the whole site"`
	PerHost     AtOnce    `key:"at_once_per_host" doc:"the same for each host"`
	PerStore    AtOnce    `key:"at_once_per_store" doc:"the same for each store"`
	MACs        string    `key:"macs" doc:"the first bytes of the MAC addresses that adapters are given, such as 52:54:00"`

	Hosts       map[string]Host `key:"hosts" doc:"libvirt: the hosts, by the names that rows use"`
	SpareMemory machine.Size    `key:"spare_memory" doc:"libvirt: memory of each host that no machine may be promised (default 1GiB)"`
	SpareDisk   machine.Size    `key:"spare_disk" doc:"libvirt: room of each store that no clone may take (default 1GiB)"`
	Spread      string          `key:"spread" doc:"libvirt: what to keep on different hosts: preset (the default), or a label's name"`
}

// Host is a host of a libvirt site. In short it is just its URI.
type Host struct {
	URL      string    `key:"url" short:"yes" doc:"libvirt URI: qemu:///system, qemu+unix, qemu+ssh or qemu+tls, with libvirt's own parameters"`
	Password Reference `key:"password" doc:"of the SSH login, where there is no key; best as file:PATH or env:NAME"`
}

// Template is what machines are cloned from: a machine, or a bare volume.
type Template struct {
	Source   string   `key:"source" doc:"the template machine's name at the site, if it is another"`
	Volume   string   `key:"volume" doc:"a bare volume instead of a machine, as store/volume"`
	Hardware Hardware `key:"hardware" doc:"the machine around a bare volume, or what is to differ from the template machine"`
	Guest    string   `key:"guest" doc:"linux or windows"`
	// Answers says what the guest reads on its first boot.
	Answers string     `key:"answers" doc:"cloud-init (the default for linux), unattend (for windows), ovf-env, files or none"`
	Own     OwnAnswers `key:"own_answers" doc:"answers: files: your own templates, and the seed that carries them"`
	Seed    string     `key:"seed" doc:"keep or drop: take it away once the guest is confirmed (default: drop where it carries a password, else keep)"`
	Values  Values     `key:"*"`
}

// OwnAnswers are answers in a form that this program does not know itself.
type OwnAnswers struct {
	Label string            `key:"label" doc:"of the seed's volume"`
	Kind  string            `key:"kind" doc:"of the seed: iso (the default) or fat"`
	Files []machine.OwnFile `key:"files" doc:"what is on it"`
}

// Hardware is a machine's, as far as neither a column nor its template says it.
type Hardware struct {
	Emulator string `key:"emulator" doc:"kvm (the default where the host can) or qemu (software emulation)"`
	Arch     string `key:"arch" doc:"such as x86_64 or aarch64 (default: the host's)"`
	Board    string `key:"board" doc:"such as q35 (the default for x86_64), pc or virt"`
	CPU      string `key:"cpu" doc:"host-model (the default), host-passthrough, maximum, or a model's name"`
	Sockets  int    `key:"sockets" doc:"that the CPUs are spread over"`
	Bus      string `key:"bus" doc:"of disks: virtio (the default), scsi or sata"`
	Display  string `key:"display" doc:"on (the default) or off"`
	Console  string `key:"console" doc:"on (the default) or off: the serial console"`
}

// Network is what machines are connected to.
type Network struct {
	Source  string          `key:"source" doc:"the network's name at the site, if it is another; bridge:NAME for a bridge of the host"`
	VLAN    int             `key:"vlan" doc:"tag, where the site's network takes one"`
	Model   string          `key:"model" doc:"of the adapters, such as virtio or e1000e (default: the template's)"`
	Subnet  []netip.Prefix  `key:"subnet" doc:"the network's subnets, at most one a family"`
	Gateway []netip.Addr    `key:"gateway" doc:"the way out, at most one a family"`
	DNS     []netip.Addr    `key:"dns" doc:"DNS servers"`
	Search  []string        `key:"search" doc:"DNS search domains"`
	MTU     int             `key:"mtu" doc:"largest packet, in bytes (default: the guest's own)"`
	Routes  []machine.Route `key:"routes" doc:"ways to other networks, besides the gateway"`
	IPv6    machine.Switch  `key:"ipv6" doc:"off switches IPv6 off in the guest"`
	Cooling *time.Duration  `key:"cooling" doc:"how long an address rests after its machine was retired (default 1h)"`
	Look    []string        `key:"look" doc:"how to ask, before a new address is given to a machine, whether it is free: dns, echo, neighbour (default: not at all)"`
	Pools   map[string]Pool `key:"pools" doc:"addresses that the tool may hand out"`
}

// Pool is a part of a network's addresses.
type Pool struct {
	Ranges []string       `key:"ranges" short:"yes" doc:"such as 198.51.100.100-198.51.100.180"`
	Skip   []string       `key:"skip" doc:"addresses and ranges to leave out"`
	Choice string         `key:"choice" doc:"which free address a machine gets: lowest (the default), sticky (each its own again, even after a retire) or spread"`
	Pair   machine.Switch `key:"pair" doc:"on: also the address of the other family with the same host number"`
}

// Preset is a named bundle of column defaults and first-boot contents.
type Preset struct {
	From string       `key:"from" doc:"the preset that this one builds on"`
	Hash machine.Hash `key:"hash" doc:"how passwords are hashed for its guests"`
	// Expect is no part of what its machines are made to.
	Expect Expect `key:"expect" doc:"what verify looks for in its guests"`
	Contents
	Values Values `key:"*"`
}

// Expect is what a guest is to have.
type Expect struct {
	Files    []string `key:"files" doc:"files that are there"`
	Services []string `key:"services" doc:"services that are active"`
	Ports    []string `key:"ports" doc:"TCP ports at which something answers"`
}

// Checks lists what is expected of the machines of a preset, with what it builds on.
func (s *Setup) Checks(preset string) []survey.Check {
	var all []survey.Check
	for _, name := range s.Lineage(preset) {
		e := s.Presets[name].Expect
		for _, list := range []struct {
			kind  survey.CheckKind
			names []string
		}{{survey.File, e.Files}, {survey.Service, e.Services}, {survey.Port, e.Ports}} {
			for _, name := range list.names {
				all = append(all, survey.Check{Kind: list.kind, Name: name})
			}
		}
	}
	return all
}

// Contents is what a guest gets and does on its first boot.
type Contents = machine.Firstboot

// Secrets says to whom generated secrets are sealed.
type Secrets struct {
	Recipients []string `key:"recipients" doc:"age recipients (age1...)"`
	Identity   string   `key:"identity" doc:"the file of the identity that opens sealed values, relative to this file"`
	Passwords  Policy   `key:"passwords" doc:"what generated passwords are like"`
	// HostAuthority is opened only when a seed is made.
	HostAuthority Reference `key:"host_authority" doc:"the private key that signs the guests' SSH host keys, as secret:NAME or file:PATH"`
}

// Policy is what generated passwords are like.
type Policy struct {
	Length  int      `key:"length" doc:"characters (default 20)"`
	Classes []string `key:"classes" doc:"of which each has at least one: lower, upper, digit, symbol (default: all)"`
}

// Events says where the logs of runs are, and for how long.
type Events struct {
	Dir  string `key:"dir" short:"yes" doc:"the folder, relative to this file (default mintbatch.runs)"`
	Days int    `key:"days" doc:"for how many days they are kept (default 90)"`
}

// AtOnce bounds how much goes on side by side; 0 is no limit of its own.
type AtOnce struct {
	Machines int `key:"machines" doc:"machines that something is done to"`
	Copies   int `key:"copies" doc:"full clones (default at a site: three quarters of its machines)"`
	Starts   int `key:"starts" doc:"machines being started"`
	Confirms int `key:"confirms" doc:"machines whose guest is waited for (default at a site: 256)"`
}

// Limits bounds a run.
type Limits struct {
	Task    time.Duration `key:"task" doc:"longest time that one act at a site may take (default 30m)"`
	Copy    time.Duration `key:"copy" doc:"longest time that a full clone may take (default: task)"`
	Waves   string        `key:"waves" doc:"the portions in which a batch is minted, each done before the next is begun, such as 1,10%,rest"`
	Start   time.Duration `key:"start" doc:"longest time that a start may take (default: task)"`
	Confirm time.Duration `key:"confirm" doc:"longest time that a machine may take to report after its start (default 10m)"`
}

// Reference is a value that stands in the file or comes from elsewhere:
// `env:NAME`, `file:PATH`, `secret:NAME`. It is resolved only when it is needed.
type Reference string

// Where tells at which position the setup gives a value, such as
// Where("presets", "sonar-node", "memory").
func (s *Setup) Where(path ...string) finding.Position { return s.positions[pathID(path)] }

// File reads a file that a cell names, relative to the setup.
func (s *Setup) File(path string) (string, error) {
	if s.fetch == nil {
		return "", errors.New("no files are at hand")
	}
	return s.fetch("file", path)
}

// TemplateSource is a template's name at its site.
func (s *Setup) TemplateSource(name string) string {
	t := s.Templates[name]
	return cmp.Or(t.Volume, t.Source, name)
}

// NetworkSource is a network's name at the sites.
func (s *Setup) NetworkSource(name string) string { return cmp.Or(s.Networks[name].Source, name) }

// ValueColumns lists every column, by its id, that the setup gives a value
// somewhere.
func (s *Setup) ValueColumns() map[string]bool {
	all := map[string]bool{}
	add := func(v Values) {
		for id := range v {
			all[id] = true
		}
	}
	add(s.Defaults)
	for _, t := range s.Templates {
		add(t.Values)
	}
	for _, p := range s.Presets {
		add(p.Values)
	}
	return all
}
