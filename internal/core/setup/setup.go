// Package setup is the setup file: the sites where machines are made, from what, on
// which networks and with which presets.
package setup

import (
	"cmp"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/core/wave"
	"mintbatch/internal/core/window"
)

// Setup is a setup file that was read without errors. Each field's `key` is
// its name in the file; `doc` explains it.
type Setup struct {
	Version   int                  `key:"mintbatch" doc:"version of the setup's format: 1"`
	Sheet     string               `key:"sheet" doc:"the inventory sheet, relative to this file"`
	Ledger    string               `key:"ledger" doc:"the ledger's file, relative to this file, or a database that several share, postgres://USER@HOST/DATABASE"`
	Columns   map[string]Column    `key:"columns" doc:"the meaning of the sheet's own headings"`
	Naming    Naming               `key:"naming" doc:"rules for machine names"`
	Defaults  Values               `key:"defaults" doc:"values of columns that a row, its preset and its template leave empty"`
	Sites     map[string]Site      `key:"sites" doc:"the sites where machines are made"`
	Templates map[string]Template  `key:"templates" doc:"the templates to clone machines from"`
	Libraries map[string]Library   `key:"libraries" doc:"shared places for versions of templates"`
	DNS       map[string]DNS       `key:"dns" doc:"DNS servers that machines are entered in"`
	Directory map[string]Directory `key:"directory" doc:"directory servers (LDAP) that machines are entered in"`
	Notices   map[string]Notice    `key:"notices" doc:"what other systems are told of machines"`
	Networks  map[string]Network   `key:"networks" doc:"the networks of the adapters"`
	Presets   map[string]Preset    `key:"presets" doc:"named bundles of column defaults and first-boot contents"`
	Firstboot map[string]Contents  `key:"firstboot" doc:"named first-boot contents that rows and presets refer to"`
	Quotas    map[string]Quota     `key:"quotas" doc:"what machines may use together, of an owner, a site, a preset or a label"`
	Requests  Requests             `key:"requests" doc:"who may ask for machines by sending a sheet"`
	Secrets   Secrets              `key:"secrets" doc:"keys for sealed values, and rules for passwords"`
	Events    Events               `key:"logs" doc:"the logs of runs"`
	Backups   Backups              `key:"backups" doc:"copies of the ledger that are made before each run"`
	CallHome  CallHome             `key:"call_home" doc:"where mintbatch listens for guests that report by themselves (confirm: call-home)"`
	Limits    Limits               `key:"limits" doc:"how many machines to work on in parallel, and time limits"`

	networks  map[string]address.Network // with their pools
	sources   map[string]string          // the first of them, by what the sites call it
	subnets   map[netip.Prefix][]string  // those of a subnet, in order
	lengths   map[int]bool               // of the subnets' prefixes
	books     map[string]Book            // by NETWORK/POOL
	positions map[string]finding.Position
	fetch     Fetch
	broken    map[string]bool // parts that have an error
}

// Usable reports whether none of the named parts of the setup has an error, although
// others may.
func (s *Setup) Usable(parts ...string) bool {
	return !s.broken[everything] && !s.broken["mintbatch"] && !slices.ContainsFunc(parts, func(p string) bool { return s.broken[p] })
}

// everything is broken where the files are no YAML.
const everything = "*"

// Values are column defaults: the text that would stand in a cell, by column.
type Values map[string]string

// Column is what a heading means. In short it is just the column's name.
type Column struct {
	Column Target       `key:"column" short:"yes" doc:"the column that it means, or ignore"`
	Unit   machine.Unit `key:"unit" doc:"of its bare numbers: MiB, GiB, TiB"`
	Fixed  *string      `key:"fixed" doc:"a value for every row, whatever the cells say"`
}

// Naming is how machines are to be named: for all, and for those of a preset.
type Naming struct {
	NameRule
	Presets map[string]NameRule `key:"presets" doc:"rules for the machines of a preset, besides those for all"`
}

// NameRule is what a machine's name has to be like.
type NameRule struct {
	Prefix    string       `key:"prefix" doc:"every name begins with it"`
	Pattern   Pattern      `key:"pattern" doc:"a regular expression that the whole name matches"`
	Longest   int          `key:"max_length" doc:"maximum length of a name"`
	Lowercase bool         `key:"lowercase" doc:"names are taken in lower case"`
	Hostname  HostnameRule `key:"hostname" doc:"same: the host name must be the machine's name; any (the default)"`
	Reserved  []string     `key:"reserved" doc:"names that no machine may have"`
}

// Site is one place the sites where machines are made.
type Site struct {
	Kind        SiteKind           `key:"kind" doc:"gateway, libvirt or folder"`
	URL         URL                `key:"url" doc:"gateway: address of the site's manager"`
	Fingerprint secret.Fingerprint `key:"fingerprint" doc:"gateway: SHA-256 of the certificate to trust, for one that no authority signed"`
	Token       Reference          `key:"token" doc:"gateway: the bearer token, best as file:PATH or env:NAME"`
	Parallel    Parallel           `key:"parallel" doc:"how many machines to work on in parallel (default 8), or a limit for each kind of step"`
	PerHost     Parallel           `key:"parallel_per_host" doc:"the same limits for each host"`
	PerStore    Parallel           `key:"parallel_per_store" doc:"the same limits for each store"`
	MACs        machine.MACPrefix  `key:"mac_prefix" doc:"the first bytes of the MAC addresses that adapters are given, such as 52:54:00"`

	Hosts       map[string]Host `key:"hosts" doc:"libvirt: the hosts, by the names that rows use"`
	SpareMemory machine.Size    `key:"spare_memory" doc:"libvirt: memory of each host to keep free (default 1GiB)"`
	SpareDisk   machine.Size    `key:"spare_disk" doc:"libvirt: space of each store to keep free (default 1GiB)"`
	Path        string          `key:"path" doc:"folder: where the machines are, relative to this file"`
	Format      DiskFormat      `key:"format" doc:"folder: the format of disks: qcow2, vhdx, vhd, vmdk or raw"`
	Describe    []Description   `key:"describe" doc:"folder: the descriptions that are written beside disks: ovf, libvirt"`

	Spread string `key:"anti_affinity" doc:"libvirt: which machines to spread over hosts: those of a preset (preset, the default), or of a label (its name)"`
}

// Host is a host of a libvirt site. In short it is just its URI.
type Host struct {
	URL      URL       `key:"url" short:"yes" doc:"libvirt URI: qemu:///system, qemu+unix, qemu+ssh or qemu+tls, with libvirt's own parameters"`
	Password Reference `key:"password" doc:"of the SSH login, where there is no key; best as file:PATH or env:NAME"`
}

// Template is what machines are cloned from: a machine, or a bare volume.
type Template struct {
	Source   string   `key:"source" doc:"the template machine's name at the site, if it is another"`
	Volume   string   `key:"volume" doc:"a bare volume instead of a machine, as store/volume"`
	Hardware Hardware `key:"hardware" doc:"the hardware around a bare volume, or changes to the template machine's"`
	Guest    Guest    `key:"guest" doc:"linux or windows"`
	// Answers says what the guest reads on its first boot.
	Answers Answers    `key:"answers" doc:"cloud-init (the default for linux), unattend (for windows), ovf-env, files or none"`
	Own     OwnAnswers `key:"custom_answers" doc:"answers: files: templates of your own, and the seed that contains them"`
	Seed    SeedPolicy `key:"seed" doc:"keep, or drop: delete it once the guest is confirmed (the default, unless a checkpoint refers to it)"`
	Values  Values     `key:"*"`
}

// Library is a shared place for versions of templates: a registry, or a folder.
type Library struct {
	URL         URL                `key:"url" doc:"a registry of the OCI distribution standard, with the repository: https://HOST/REPOSITORY"`
	Folder      string             `key:"folder" doc:"a folder in the OCI image layout instead of a registry, relative to this file"`
	Login       string             `key:"login" doc:"the login at the registry, if it needs one"`
	Password    Reference          `key:"password" doc:"of the login, best as file:PATH, env:NAME or secret:NAME"`
	Fingerprint secret.Fingerprint `key:"fingerprint" doc:"SHA-256 of the certificate to trust, for one that no authority signed"`
	Signers     machine.PublicKeys `key:"signers" doc:"SSH public keys of which one has to have signed what is fetched"`
	Sign        Reference          `key:"sign" doc:"the SSH private key that signs what is added, as file:PATH or secret:NAME"`
	Fetch       FetchWhen          `key:"fetch" doc:"what a mint fetches by itself: on-demand (the default), what rows need and their site has not; all, also newer versions than a site has; off, nothing"`
	Limit       machine.Size       `key:"limit" doc:"how much is sent or received in a second (default: no limit)"`
	Keep        string             `key:"keep" doc:"the folder for what was fetched of the library, relative to this file (default mintbatch.library)"`
}

// OwnAnswers are answers in a form that this program does not know itself.
type OwnAnswers struct {
	Label string            `key:"label" doc:"of the seed's volume"`
	Kind  machine.SeedImage `key:"kind" doc:"of the seed: iso (the default) or fat"`
	Files []machine.OwnFile `key:"files" doc:"what is on it"`
}

// Hardware is a machine's, as far as neither a column nor its template says it.
type Hardware struct {
	Emulator   machine.Emulator      `key:"emulator" doc:"kvm (the default where the host can) or qemu (software emulation)"`
	Arch       string                `key:"arch" doc:"write for example x86_64 or aarch64 (default: the host's)"`
	Board      string                `key:"machine_type" doc:"write for example q35 (the default for x86_64), pc or virt"`
	CPU        string                `key:"cpu" doc:"host-model (the default), host-passthrough, maximum, or a model's name"`
	Sockets    int                   `key:"sockets" doc:"number of CPU sockets"`
	Bus        machine.DiskBus       `key:"disk_bus" doc:"of disks: virtio (the default), scsi or sata"`
	SecureBoot machine.Switch        `key:"secure_boot" doc:"of a bare volume: on or off (default: what the host's firmware does)"`
	TPM        machine.Switch        `key:"tpm" doc:"of a bare volume: on or off (the default): a TPM 2.0 emulated by the host"`
	Clock      machine.Clock         `key:"clock" doc:"of a bare volume: utc (the default) or localtime (the default for windows)"`
	Display    machine.Switch        `key:"display" doc:"on (the default) or off"`
	Console    machine.Switch        `key:"serial_console" doc:"on (the default) or off: the serial console"`
	Adapters   machine.ExtraAdapters `key:"extra_adapters" doc:"the template's adapters that no row describes: drop (the default) or unplugged"`
}

// Network is what machines are connected to.
type Network struct {
	Source  string          `key:"source" doc:"the network's name at the site, if it is another; bridge:NAME for a bridge of the host"`
	VLAN    int             `key:"vlan" doc:"tag, where the site's network takes one"`
	Model   string          `key:"model" doc:"of the adapters, such as virtio or e1000e (default: the template's)"`
	Subnet  []netip.Prefix  `key:"subnet" doc:"the network's subnets, at most one per address family"`
	Gateway []netip.Addr    `key:"gateway" doc:"default gateways, at most one per address family"`
	DNS     []netip.Addr    `key:"dns" doc:"DNS servers"`
	Search  []string        `key:"search" doc:"DNS search domains"`
	MTU     int             `key:"mtu" doc:"largest packet, in bytes (default: the guest's own)"`
	Routes  []machine.Route `key:"routes" doc:"static routes, besides the default gateway"`
	IPv6    machine.Switch  `key:"ipv6" doc:"off disables IPv6 in the guest"`
	Cooling *time.Duration  `key:"cooling" doc:"how long an address is not assigned again after its machine was retired (default 1h)"`
	Probe   []address.Probe `key:"probe" doc:"how to check that a new address is not in use: dns, ping, arp (default: not at all)"`
	Pools   map[string]Pool `key:"pools" doc:"the addresses that may be assigned"`
	Enrol   []string        `key:"enrol" doc:"the systems around them, such as a DNS server, that its machines are entered in"`
}

// Pool is a part of a network's addresses.
type Pool struct {
	Ranges     []address.Range    `key:"ranges" short:"yes" doc:"write for example 198.51.100.100-198.51.100.180"`
	Exclude    []address.Range    `key:"exclude" doc:"addresses and ranges to leave out"`
	Allocation address.Allocation `key:"allocation" doc:"which free address a machine gets: lowest (the default), sticky (each its own again, even after a retire) or hashed (by the machine's name)"`
	From       Book               `key:"from" doc:"an address book of others, in which its addresses are reserved"`
	DualStack  machine.Switch     `key:"dual_stack" doc:"on: also the address of the other family with the same host number"`
}

// Preset is a named bundle of column defaults and first-boot contents.
type Preset struct {
	From string       `key:"extends" doc:"the preset that this one builds on"`
	Hash machine.Hash `key:"password_hash" doc:"how passwords are hashed for its guests"`
	// Expect is no part of what its machines are made to.
	Expect Expect `key:"expect" doc:"what verify checks in its guests"`
	Contents
	Values Values `key:"*"`
}

// Expect is what a guest is to have.
type Expect struct {
	Files    []string `key:"files" doc:"files that exist"`
	Services []string `key:"services" doc:"services that are active"`
	Ports    []Port   `key:"ports" doc:"TCP ports at which something answers"`
}

// Checks lists what is expected of the machines of a preset, with what it builds on.
func (s *Setup) Checks(preset string) []contract.Check {
	var all []contract.Check
	for _, name := range s.Lineage(preset) {
		e := s.Presets[name].Expect
		for _, file := range e.Files {
			all = append(all, contract.Check{Kind: contract.File, Name: file})
		}
		for _, service := range e.Services {
			all = append(all, contract.Check{Kind: contract.Service, Name: service})
		}
		for _, port := range e.Ports {
			all = append(all, contract.Check{Kind: contract.Port, Name: port.String()})
		}
	}
	return all
}

// Contents is what a guest gets and does on its first boot.
type Contents = machine.Firstboot

// Secrets says to whom generated secrets are sealed.
type Secrets struct {
	Recipients secret.Recipients `key:"recipients" doc:"age recipients (age1...)"`
	Identity   string            `key:"identity" doc:"the file of the identity that opens sealed values, relative to this file"`
	Passwords  secret.Policy     `key:"passwords" doc:"rules for generated passwords"`
	// HostAuthority is opened only when a seed is made.
	HostAuthority Reference `key:"ssh_host_ca" doc:"the private key that signs the guests' SSH host keys, as secret:NAME or file:PATH"`
}

// Backups says where copies of a ledger in a file are, and how many.
type Backups struct {
	Keep int    `key:"keep" short:"yes" doc:"how many copies are kept; the oldest ones are deleted (default 0: none is made)"`
	Dir  string `key:"dir" doc:"the folder, relative to this file (default mintbatch.backups)"`
}

// Events says where the logs of runs are, and for how long.
type Events struct {
	Dir  string `key:"dir" short:"yes" doc:"the folder, relative to this file (default mintbatch.runs)"`
	Days int    `key:"keep_days" doc:"for how many days they are kept (default 90)"`
}

// Parallel limits how many machines are worked on in parallel; 0 is no limit of its
// own. In short it is just the number of machines.
type Parallel struct {
	Machines   int `key:"machines" short:"yes" doc:"machines in any step but confirm (default at a site: 8)"`
	FullClones int `key:"full_clones" doc:"full clones (default at a site: three quarters of its machines)"`
	Starts     int `key:"starts" doc:"machines being started"`
	Confirms   int `key:"confirms" doc:"machines waiting for their guest's report (default at a site: 256)"`
}

// CallHome says where guests report that no site can ask.
type CallHome struct {
	Listen Listen `key:"listen" doc:"an address of this computer that guests reach, with a port"`
	URL    URL    `key:"url" doc:"how guests reach it, if that is another address (default: http:// and listen)"`
}

// Base is the address to which guests report; empty if they cannot.
func (c CallHome) Base() string {
	switch {
	case !c.Listen.IsValid():
		return ""
	case c.URL.URL != nil:
		return strings.TrimRight(c.URL.String(), "/")
	}
	return "http://" + c.Listen.String()
}

// Limits bounds a run.
type Limits struct {
	Task     time.Duration `key:"task" doc:"longest time that one act at a site may take (default 30m)"`
	Copy     time.Duration `key:"full_clone" doc:"longest time that a full clone may take (default: task)"`
	Restarts window.Window `key:"restart_window" doc:"when a mint may begin changes that restart a machine, by the clock of this computer, such as 16:00-18:00"`
	Waves    wave.Sizes    `key:"waves" doc:"mint in waves such as 1,10%,rest, each confirmed before the next is started"`
	Start    time.Duration `key:"start" doc:"longest time that a start may take (default: task)"`
	Confirm  time.Duration `key:"confirm" doc:"longest time that a machine may take to report after its start (default 10m)"`
	Missing  Percent       `key:"max_missing" doc:"share of a site's machines that may be missing from its answer before the answer is not trusted (default 25%)"`
}

// Where reports at which position the setup gives a value, such as
// Where("presets", "sonar-node", "memory").
func (s *Setup) Where(path ...string) finding.Position { return s.positions[pathID(path)] }

// File reads a file that a cell names, relative to the setup.
func (s *Setup) File(path string) (string, error) {
	if s.fetch == nil {
		return "", errors.New("files cannot be read here")
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

// NetworkOf is the first network, in order, that the sites call by a name; empty if there is none.
func (s *Setup) NetworkOf(source string) string { return s.sources[source] }

// NetworksAt lists the networks, in order, that an address is in a subnet of.
func (s *Setup) NetworksAt(a netip.Addr) (names []string) {
	for bits := range s.lengths {
		if p, err := a.Prefix(bits); err == nil {
			names = append(names, s.subnets[p]...)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

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
