package setup

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
)

// DNS is a server in which machines are entered by updates (RFC 2136).
type DNS struct {
	Server       Server         `key:"server" doc:"address of the primary server, with its port if that is not 53"`
	Key          UpdateKey      `key:"key" doc:"the key that signs updates (TSIG, RFC 8945)"`
	Kerberos     Kerberos       `key:"kerberos" doc:"instead of a key: the login that signs updates, as Windows domains want it (GSS-TSIG, RFC 3645)"`
	Zones        []string       `key:"zones" doc:"the zones that names are entered in (default: found by asking the server)"`
	TTL          time.Duration  `key:"ttl" doc:"how long others may keep what is entered (default 1h)"`
	Reverse      machine.Switch `key:"reverse" doc:"on (the default): also the names of addresses (PTR)"`
	Fingerprints machine.Switch `key:"host_key_fingerprints" doc:"on (the default): also the fingerprints of SSH host keys (SSHFP)"`
}

// UpdateKey is a key that signs updates.
type UpdateKey struct {
	Name      string       `key:"name" doc:"of the key at the server"`
	Algorithm KeyAlgorithm `key:"algorithm" doc:"hmac-sha256 (the default), hmac-sha224, hmac-sha384 or hmac-sha512"`
	Secret    Reference    `key:"secret" doc:"the key in base64, best as file:PATH, env:NAME or secret:NAME"`
}

// KeyAlgorithm is how a key signs.
type KeyAlgorithm string

// Words lists the algorithms.
func (KeyAlgorithm) Words() []string {
	return []string{"hmac-sha256", "hmac-sha224", "hmac-sha384", "hmac-sha512"}
}

// Server is the address of a server, whose port is 53 if none is written.
type Server struct{ netip.AddrPort }

// UnmarshalText reads 198.51.100.2 or 198.51.100.2:5353.
func (s *Server) UnmarshalText(text []byte) error {
	if a, err := netip.ParseAddr(string(text)); err == nil {
		s.AddrPort = netip.AddrPortFrom(a, 53)
		return nil
	}
	at, err := netip.ParseAddrPort(string(text))
	if err != nil || at.Port() == 0 {
		return errors.New("it is no address")
	}
	s.AddrPort = at
	return nil
}

// Expects describes the value.
func (Server) Expects() string { return "an address, such as 198.51.100.2 or 198.51.100.2:5353" }

// Directory is a directory server in which machines are entered.
type Directory struct {
	Kind        DirectoryKind       `key:"kind" doc:"entries (the default), or ad: the computer accounts of a Windows domain"`
	URL         URL                 `key:"url" doc:"ldaps://HOST, or ldap://HOST, which is then secured by StartTLS"`
	Fingerprint secret.Fingerprint  `key:"fingerprint" doc:"SHA-256 of the certificate to trust, for one that no authority signed"`
	Login       string              `key:"login" doc:"the distinguished name of the login; in a Windows domain also NAME@DOMAIN"`
	Password    Reference           `key:"password" doc:"of the login, best as file:PATH, env:NAME or secret:NAME"`
	Kerberos    Kerberos            `key:"kerberos" doc:"instead of login and password: a login of a Kerberos realm"`
	Entry       string              `key:"entry" doc:"a Go template of the distinguished name of a machine's entry"`
	Attributes  map[string][]string `key:"attributes" doc:"Go templates of what is in the entry, by attribute; each line is a value"`
	Mark        string              `key:"mark" doc:"the attribute that says whose an entry is (default description; ad: adminDescription)"`
	Domain      string              `key:"domain" doc:"ad: the DNS name of the domain"`
	Unit        string              `key:"ou" doc:"ad: a Go template of where accounts are (default CN=Computers of the domain)"`
	Groups      []string            `key:"groups" doc:"ad: distinguished names of the groups that accounts are members of"`
	Join        machine.Switch      `key:"join" doc:"ad: on (the default): guests join the domain with their own account"`
	AtRetire    AtRetire            `key:"at_retire" doc:"ad: what becomes of the account of a retired machine: delete (the default), disable, or move: disabled, and moved to retired_ou"`
	RetiredUnit string              `key:"retired_ou" doc:"ad: where accounts of retired machines are moved"`
}

// checkDirectory holds a directory server against itself, on a machine that is made up.
func (s *Setup) checkDirectory(name string, d Directory, bad report) {
	switch {
	case machine.CheckLabel(name) != nil:
		bad(fmt.Sprintf("directory name %q: use letters, digits and hyphens", name), "", "directory", name)
	case s.DNS[name].Server.IsValid():
		bad(fmt.Sprintf("a DNS server and a directory have the name %s", name), "rename one of them", "directory", name)
	}
	if d.URL.IsZero() || d.URL.Scheme != "ldaps" && d.URL.Scheme != "ldap" {
		bad(fmt.Sprintf("directory %s needs a url that begins with ldaps:// or ldap://", name), "", "directory", name, "url")
	}
	d.Kerberos.check("directory "+name, []string{"directory", name, "kerberos"}, bad)
	if !d.Kerberos.IsZero() && d.Login != "" {
		bad(fmt.Sprintf("directory %s has two logins", name), "remove login and password, or kerberos", "directory", name, "login")
	}
	if d.IsDomain() {
		s.checkDomain(name, d, bad)
	} else if _, err := d.entries(name).Of(sampleMachine()); err != nil {
		bad(fmt.Sprintf("directory %s: %s", name, err), "write for example entry: \"cn={{.machine.hostname}},ou=hosts,dc=brackwater,dc=example\", and attributes", "directory", name)
	}
	for attribute := range d.Attributes {
		if strings.EqualFold(attribute, d.MarkedBy()) {
			bad(fmt.Sprintf("directory %s: the attribute %s has the mark", name, attribute), "leave it out, or name another one as mark", "directory", name, "attributes", attribute)
		}
	}
}

func (d Directory) entries(system string) entry.Directory {
	return entry.Directory{System: system, Entry: d.Entry, Attributes: d.Attributes}
}

// sampleMachine is one on which templates are tried.
func sampleMachine() *machine.Machine {
	return &machine.Machine{Key: machine.Key{Site: "x", Name: "x"}}
}

// item is what is to stand in the directory for a machine.
func (d Directory) item(system string, m *machine.Machine) (entry.Item, error) {
	if d.IsDomain() {
		return d.computers(system).Of(m)
	}
	return d.entries(system).Of(m)
}

// MarkedBy is the attribute that says whose an entry is.
func (d Directory) MarkedBy() string {
	if d.IsDomain() {
		return cmp.Or(d.Mark, "adminDescription")
	}
	return cmp.Or(d.Mark, "description")
}

// Book is an address book of others. In short it is just its URL.
type Book struct {
	URL         URL                `key:"url" short:"yes" doc:"its address, of the API of docs/address-book.yaml"`
	Token       Reference          `key:"token" doc:"the bearer token, best as file:PATH or env:NAME"`
	Fingerprint secret.Fingerprint `key:"fingerprint" doc:"SHA-256 of the certificate to trust, for one that no authority signed"`
}

// Books lists the pools that have an address book, as NETWORK/POOL.
func (s *Setup) Books() map[string]Book { return s.books }

// findBooks finds the pools that have an address book.
func (s *Setup) findBooks() {
	s.books = map[string]Book{}
	for network, n := range s.Networks {
		for pool, p := range n.Pools {
			if !p.From.URL.IsZero() {
				s.books[network+"/"+pool] = p.From
			}
		}
	}
}

// reserved are the addresses of a machine that are of pools with an address book.
func (s *Setup) reserved(m *machine.Machine) (all []entry.Item) {
	for system := range sorted(s.books) {
		network, pool, _ := strings.Cut(system, "/")
		built := s.networks[network]
		for _, a := range m.Adapters {
			if a.Network != s.NetworkSource(network) {
				continue
			}
			for _, p := range a.Given() {
				if built.PoolOf(p.Addr()) == pool {
					all = append(all, entry.Item{System: system, Name: p.Addr().String(), Values: []string{m.Key.String()}})
				}
			}
		}
	}
	return all
}

// Enters reports whether there is any system around machines.
func (s *Setup) Enters() bool { return len(s.DNS)+len(s.Directory)+len(s.books) > 0 }

// checkAround holds the systems around machines against what names them.
func (s *Setup) checkAround(bad report) {
	s.findBooks()
	for name, d := range sorted(s.DNS) {
		if err := machine.CheckLabel(name); err != nil {
			bad(fmt.Sprintf("DNS server name %q: %s", name, err), "use letters, digits and hyphens", "dns", name)
		}
		if !d.Server.IsValid() {
			bad(fmt.Sprintf("dns %s has no server", name), "write server: ADDRESS", "dns", name)
		}
		if d.Key.Secret.IsZero() != (d.Key.Name == "") {
			bad(fmt.Sprintf("dns %s: a key has a name and a secret", name), "write both, or neither for a server that takes unsigned updates", "dns", name, "key")
		}
		d.Kerberos.check("dns "+name, []string{"dns", name, "kerberos"}, bad)
		switch {
		case d.Kerberos.IsZero():
		case d.Key.Name != "":
			bad(fmt.Sprintf("dns %s: updates are signed either by a key or by a Kerberos login", name), "remove key or kerberos", "dns", name, "key")
		case d.Kerberos.Host == "":
			bad(fmt.Sprintf("dns %s: its Kerberos login needs the name that the server has in the realm", name), "write for example host: dc1.brackwater.example", "dns", name, "kerberos", "host")
		}
		if d.TTL != 0 && d.TTL < time.Second || d.TTL > 7*24*time.Hour {
			bad(fmt.Sprintf("dns %s: the TTL must be from 1s to 168h", name), "", "dns", name, "ttl")
		}
		for _, z := range d.Zones {
			if machine.CheckDomain(strings.ReplaceAll(strings.TrimSuffix(z, "."), "/", "-")) != nil {
				bad(fmt.Sprintf("dns %s: %q is no zone", name, z), "write for example brackwater.example or 100.51.198.in-addr.arpa", "dns", name, "zones")
			}
		}
	}
	for name, d := range sorted(s.Directory) {
		s.checkDirectory(name, d, bad)
	}
	for pool, b := range sorted(s.Books()) {
		if network, name, _ := strings.Cut(pool, "/"); b.URL.Scheme != "https" {
			bad(fmt.Sprintf("the address book of pool %s needs a url that begins with https://", pool), "", "networks", network, "pools", name, "from")
		}
	}
	for name, n := range sorted(s.Networks) {
		for _, word := range n.Enrol {
			if !s.HasSystem(word) {
				bad(fmt.Sprintf("network %s names the unknown system %q", name, word), finding.DidYouMean(word, s.Systems()), "networks", name, "enrol")
			}
		}
	}
}

// HasSystem reports whether there is a system of a name.
func (s *Setup) HasSystem(name string) bool {
	_, is := s.DNS[name]
	return is || s.IsDirectory(name)
}

// Systems names the systems that machines are entered in, in order.
func (s *Setup) Systems() []string { return slices.Concat(Names(s.DNS), Names(s.Directory)) }

// Entries is what is to stand for a machine in the systems that it is entered in.
func (s *Setup) Entries(m *machine.Machine, hostKey string) (all []entry.Item) {
	all = s.reserved(m)
	for _, system := range m.Enrol {
		if d, is := s.DNS[system]; is {
			all = append(all, s.names(system, d, m).Of(m, hostKey)...)
		}
		if d, is := s.Directory[system]; is {
			if item, err := d.item(system, m); err == nil { // it was tried when the setup was read
				all = append(all, item)
			}
		}
	}
	return all
}

// names says what of a machine is entered in a DNS server: the addresses of networks that name the server, or all if none of
// its networks does.
func (s *Setup) names(system string, d DNS, m *machine.Machine) entry.Names {
	n := entry.Names{System: system, Reverse: d.Reverse.Or(true), Fingerprints: d.Fingerprints.Or(true)}
	covers := func(source string) bool {
		for name, n := range s.Networks {
			if s.NetworkSource(name) == source && slices.Contains(n.Enrol, system) {
				return true
			}
		}
		return false
	}
	if slices.ContainsFunc(m.Adapters, func(a machine.Adapter) bool { return covers(a.Network) }) {
		n.Covers = covers
	}
	return n
}

// IsDirectory reports whether a system is a directory server.
func (s *Setup) IsDirectory(system string) bool {
	_, is := s.Directory[system]
	return is
}

// SystemAt is where a system stands in the setup.
func (s *Setup) SystemAt(system string) finding.Position {
	if s.IsDirectory(system) {
		return s.Where("directory", system)
	}
	if network, pool, is := strings.Cut(system, "/"); is {
		return s.Where("networks", network, "pools", pool)
	}
	return s.Where("dns", system)
}
