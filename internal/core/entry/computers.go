package entry

import (
	"fmt"
	"strings"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/notice"
)

// Computers says what of machines is entered as computer accounts of a Windows domain (MS-ADTS).
type Computers struct {
	Directory
	// Unit is a template of the organizational unit, and Groups are those that the accounts are members of.
	Unit   string
	Groups []string
}

// The values of an account that are no attributes that somebody writes.
const (
	Enabled = "account: enabled"
	InUnit  = "ou: "
	InGroup = "memberOf: "
)

// LongestAccount is how long the host name of a machine with an account may be (sAMAccountName without its $).
const LongestAccount = 15

// AccountName is the name of a computer account (sAMAccountName), in lower case.
func AccountName(hostname string) string { return strings.ToLower(hostname) + "$" }

// Of is the account of a machine.
func (c Computers) Of(m *machine.Machine) (Item, error) {
	data := map[string]any{"machine": notice.About(m, "", 0)}
	unit, err := notice.Fill(c.Unit, data, EscapeDN)
	if err != nil {
		return Item{}, fmt.Errorf("ou: %w", err)
	}
	item := Item{System: c.System, Name: AccountName(m.Guest.Hostname), Values: []string{Enabled, InUnit + FoldDN(string(unit))}}
	if m.Guest.Domain != "" {
		item.Values = append(item.Values, "dNSHostName: "+strings.ToLower(m.Guest.FQDN()))
	}
	values, err := c.values(data)
	if err != nil {
		return Item{}, err
	}
	for _, v := range values {
		if name, dn, _ := strings.Cut(v, ": "); strings.EqualFold(name, "managedBy") {
			v = name + ": " + FoldDN(dn)
		}
		item.Values = append(item.Values, v)
	}
	for _, g := range c.Groups {
		item.Values = append(item.Values, InGroup+FoldDN(g))
	}
	return item, nil
}

// BaseOf is the distinguished name of a domain.
func BaseOf(domain string) string {
	return "dc=" + strings.Join(strings.Split(strings.ToLower(domain), "."), ",dc=")
}

// FoldDN writes a distinguished name so that those of one entry are the same: in lower case, without blanks after commas.
func FoldDN(dn string) string {
	var parts []string
	for rest := strings.TrimLeft(strings.ToLower(dn), " "); ; {
		i := comma(rest)
		if i < 0 {
			return strings.Join(append(parts, trimmed(rest)), ",")
		}
		parts, rest = append(parts, trimmed(rest[:i])), strings.TrimLeft(rest[i+1:], " ")
	}
}

// ParentDN is a distinguished name without its first part; empty if it has no other.
func ParentDN(dn string) string {
	i := comma(dn)
	if i < 0 {
		return ""
	}
	return dn[i+1:]
}

// comma is where the first part of a distinguished name ends; -1 if it is the only one.
func comma(dn string) int {
	for i := range len(dn) {
		if dn[i] == ',' && !escaped(dn[:i]) {
			return i
		}
	}
	return -1
}

// trimmed is a part of a name without the blanks at its end; an escaped one belongs to it.
func trimmed(part string) string {
	for strings.HasSuffix(part, " ") && !escaped(part[:len(part)-1]) {
		part = part[:len(part)-1]
	}
	return part
}

// escaped reports whether what follows a text is escaped by its last backslash.
func escaped(text string) bool {
	return (len(text)-len(strings.TrimRight(text, `\`)))%2 == 1
}
