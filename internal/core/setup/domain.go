package setup

import (
	"cmp"
	"fmt"
	"strings"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/machine"
)

// DirectoryKind is what machines are in a directory.
type DirectoryKind string

// The kinds: entries as the setup writes them, and computer accounts of a Windows domain.
const (
	EntriesKind DirectoryKind = "entries"
	DomainKind  DirectoryKind = "ad"
)

// Words lists the kinds.
func (DirectoryKind) Words() []string { return []string{string(EntriesKind), string(DomainKind)} }

// AtRetire is what becomes of the account of a machine that is retired.
type AtRetire string

// What may become of an account.
const (
	DeleteAccount  AtRetire = "delete"
	DisableAccount AtRetire = "disable"
	MoveAccount    AtRetire = "move"
)

// Words lists what may become of one.
func (AtRetire) Words() []string {
	return []string{string(DeleteAccount), string(DisableAccount), string(MoveAccount)}
}

// Kerberos is a login of a Kerberos realm (RFC 4120).
type Kerberos struct {
	Realm    string    `key:"realm" doc:"the realm, such as BRACKWATER.EXAMPLE"`
	Servers  []string  `key:"servers" doc:"its servers (KDCs), each with its port if that is not 88 (default: found by DNS)"`
	Login    string    `key:"login" doc:"the name of the login, without its realm"`
	Password Reference `key:"password" doc:"of the login, best as file:PATH, env:NAME or secret:NAME"`
	Keytab   Reference `key:"keytab" doc:"instead of a password: the keys of the login, as file:PATH"`
	Host     string    `key:"host" doc:"the name that the server has in the realm (a directory's default: that of its url)"`
}

// IsZero reports whether no login is named.
func (k Kerberos) IsZero() bool { return k.Realm == "" && k.Login == "" && len(k.Servers) == 0 }

// check holds a login against itself; what names whose it is, and path where it stands.
func (k Kerberos) check(what string, path []string, bad report) {
	if k.IsZero() {
		return
	}
	switch {
	case k.Realm == "" || k.Login == "":
		bad(what+": a Kerberos login has a realm and a login", "write for example kerberos: {realm: BRACKWATER.EXAMPLE, login: enroller, keytab: file:enroller.keytab}", path...)
	case k.Password.IsZero() == k.Keytab.IsZero():
		bad(what+": a Kerberos login has either a password or a keytab", "", path...)
	case !k.Keytab.IsZero() && k.Keytab.Kind != "file":
		bad(what+": a keytab is a file", "write keytab: file:PATH", append(path, "keytab")...)
	case strings.Contains(k.Login, "@"):
		bad(what+": the login stands without its realm", "write the realm as realm: alone", append(path, "login")...)
	}
}

// IsDomain reports whether a directory is that of a Windows domain.
func (d Directory) IsDomain() bool { return d.Kind == DomainKind }

// computers says what of machines is entered in a Windows domain.
func (d Directory) computers(system string) entry.Computers {
	return entry.Computers{Directory: d.entries(system), Unit: cmp.Or(d.Unit, "cn=computers,"+entry.BaseOf(d.Domain)), Groups: d.Groups}
}

// checkDomain holds the directory of a Windows domain against itself.
func (s *Setup) checkDomain(name string, d Directory, bad report) {
	at := func(keys ...string) []string { return append([]string{"directory", name}, keys...) }
	if err := machine.CheckDomain(d.Domain); err != nil || d.Domain == "" {
		bad(fmt.Sprintf("directory %s needs the DNS name of its domain", name), "write for example domain: brackwater.example", at("domain")...)
		return
	}
	if d.Entry != "" {
		bad(fmt.Sprintf("directory %s: the name of a computer account is the host name", name), "remove entry; ou says where accounts are", at("entry")...)
	}
	if (d.RetiredUnit == "") == (d.AtRetire == MoveAccount) {
		bad(fmt.Sprintf("directory %s: retired_ou is where at_retire: move moves accounts", name), "write both, or neither", at("at_retire")...)
	}
	base := "," + entry.BaseOf(d.Domain)
	for key, all := range sorted(map[string][]string{"ou": {d.computers(name).Unit}, "groups": d.Groups, "retired_ou": {d.RetiredUnit}}) {
		for _, dn := range all {
			if dn != "" && !strings.HasSuffix(entry.FoldDN(dn), base) {
				bad(fmt.Sprintf("directory %s: %q is not in the domain %s", name, dn, d.Domain), "write the whole distinguished name, such as OU=nodes"+strings.ToUpper(base), at(key)...)
			}
		}
	}
	for attribute := range sorted(d.Attributes) {
		if own, is := ownAttributes[strings.ToLower(attribute)]; is {
			bad(fmt.Sprintf("directory %s: the attribute %s is written by mintbatch itself", name, attribute), own, at("attributes", attribute)...)
		}
	}
	if _, err := d.computers(name).Of(sampleMachine()); err != nil {
		bad(fmt.Sprintf("directory %s: %s", name, err), "write for example ou: \"OU={{.machine.preset}},DC=brackwater,DC=example\"", at()...)
	}
}

// ownAttributes are those of an account that the setup does not write, with what to do instead.
var ownAttributes = map[string]string{"samaccountname": "remove it", "useraccountcontrol": "remove it", "unicodepwd": "remove it", "objectclass": "remove it", "dnshostname": "remove it", "cn": "remove it", "name": "remove it",
	"serviceprincipalname": "remove it; the guest writes it when it joins", "memberof": "write groups", "member": "write groups"}

// Joins is the domain that a guest joins with its own account; empty if it joins none.
func (s *Setup) Joins(systems []string) string {
	for _, system := range systems {
		if d := s.Directory[system]; d.IsDomain() && d.Join.Or(true) {
			return d.Domain
		}
	}
	return ""
}

// Domains are those systems that are directories of Windows domains.
func (s *Setup) Domains(systems []string) (all []string) {
	for _, system := range systems {
		if s.Directory[system].IsDomain() {
			all = append(all, system)
		}
	}
	return all
}
