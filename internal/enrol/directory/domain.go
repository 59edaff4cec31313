package directory

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/go-ldap/ldap/v3"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/secret"
)

// AtRetire says what becomes of an account that is taken out.
type AtRetire struct {
	Keep bool   // disabled instead of deleted
	Unit string // where it is moved then; empty for nowhere
}

// Domain is the directory of a Windows domain, in which machines have computer accounts.
type Domain struct {
	*Server
	base   string
	groups []string
	retire AtRetire
}

// NewDomain returns a domain by its DNS name. Of the groups of an account only those are looked at that are named.
func NewDomain(o Options, name string, groups []string, retire AtRetire) *Domain {
	d := &Domain{Server: New(o), base: entry.BaseOf(name), retire: retire}
	for _, g := range groups {
		d.groups = append(d.groups, entry.FoldDN(g))
	}
	return d
}

// Bits of userAccountControl (MS-ADTS, section 2.2.16).
const (
	disabled    = 0x2
	workstation = 0x1000
)

// account is one as the domain has it.
type account struct {
	entry.Seen
	dn      string
	control int
}

// Look implements enrol.System.
func (d *Domain) Look(ctx context.Context, names []string) ([]entry.Seen, error) {
	return d.each(ctx, names, func(c *ldap.Conn, name string) (entry.Seen, error) {
		a, err := d.find(c, name, d.Attributes)
		return a.Seen, err
	})
}

// find looks for an account by its name, wherever it is in the domain.
func (d *Domain) find(c *ldap.Conn, name string, attributes []string) (account, error) {
	a := account{Seen: entry.Seen{Name: name}}
	found, err := c.Search(ldap.NewSearchRequest(d.base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 2, int(patience/time.Second), false,
		"(sAMAccountName="+ldap.EscapeFilter(name)+")", append(slices.Clone(attributes), "userAccountControl", "dNSHostName", "memberOf", d.Mark), nil))
	if err != nil {
		return a, d.explain(err)
	}
	for _, e := range found.Entries {
		a.dn = e.DN
		a.control, _ = strconv.Atoi(e.GetEqualFoldAttributeValue("userAccountControl"))
		if a.control&disabled == 0 {
			a.Values = append(a.Values, entry.Enabled)
		} else {
			a.Values = append(a.Values, "account: disabled")
		}
		a.Values = append(a.Values, entry.InUnit+entry.FoldDN(entry.ParentDN(e.DN)))
		if host := e.GetEqualFoldAttributeValue("dNSHostName"); host != "" {
			a.Values = append(a.Values, "dNSHostName: "+strings.ToLower(host))
		}
		for _, attribute := range attributes {
			for _, v := range e.GetEqualFoldAttributeValues(attribute) {
				if strings.EqualFold(attribute, "managedBy") {
					v = entry.FoldDN(v)
				}
				a.Values = append(a.Values, attribute+": "+v)
			}
		}
		for _, g := range e.GetEqualFoldAttributeValues("memberOf") {
			if g = entry.FoldDN(g); slices.Contains(d.groups, g) {
				a.Values = append(a.Values, entry.InGroup+g)
			}
		}
		a.Owner = d.ownerOf(e)
	}
	return a, nil
}

// Change implements enrol.System.
func (d *Domain) Change(ctx context.Context, change entry.Change) error {
	return d.settleAccount(ctx, change, func(c *ldap.Conn, verdict entry.Verdict, a account) error {
		switch {
		case verdict == entry.Enter:
			return d.add(c, change)
		case len(change.Want) == 0:
			return d.takeOut(c, a)
		}
		return d.bring(c, change, a)
	})
}

// SetPassword implements enrol.Domain.
func (d *Domain) SetPassword(ctx context.Context, change entry.Change, password string) error {
	return d.settleAccount(ctx, change, func(c *ldap.Conn, verdict entry.Verdict, a account) error {
		if verdict == entry.Enter {
			return errors.New("there is no such account any more")
		}
		m := ldap.NewModifyRequest(a.dn, nil)
		m.Replace("unicodePwd", []string{quoted(password)})
		m.Replace("userAccountControl", []string{strconv.Itoa(a.control&^disabled | workstation)})
		return c.Modify(m)
	})
}

func (d *Domain) settleAccount(ctx context.Context, change entry.Change, do func(*ldap.Conn, entry.Verdict, account) error) error {
	var a account
	return d.settle(ctx, change, func(c *ldap.Conn) (entry.Seen, error) {
		var err error
		a, err = d.find(c, change.Name, d.attributesOf(change, "account", "ou", "memberOf", "dNSHostName"))
		return a.Seen, err
	}, func(c *ldap.Conn, verdict entry.Verdict, _ entry.Seen) error { return do(c, verdict, a) })
}

// quoted writes a password as unicodePwd takes it (MS-ADTS, section 3.1.1.3.1.5).
func quoted(password string) string {
	var b []byte
	for _, u := range utf16.Encode([]rune(`"` + password + `"`)) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return string(b)
}

// add makes an account, with a password that nobody knows until it gets the one that its guest has.
func (d *Domain) add(c *ldap.Conn, change entry.Change) error {
	password, err := secret.Policy{Length: 64}.NewPassword(rand.Reader)
	if err != nil {
		return err
	}
	written := byAttribute(change.Want)
	host := strings.ToUpper(strings.TrimSuffix(change.Name, "$"))
	add := ldap.NewAddRequest("CN="+entry.EscapeDN(host)+","+written["ou"][0], nil)
	add.Attribute("objectClass", []string{"computer"})
	add.Attribute("sAMAccountName", []string{host + "$"})
	add.Attribute("userAccountControl", []string{strconv.Itoa(workstation)})
	add.Attribute("unicodePwd", []string{quoted(password)})
	add.Attribute(d.Mark, []string{change.Owner.String()})
	for name, values := range written {
		if !special(name) {
			add.Attribute(name, values)
		}
	}
	if err := c.Add(add); err != nil {
		return err
	}
	return d.member(c, add.DN, written["memberOf"], nil)
}

// special reports whether a value is no attribute that is written as it is.
func special(name string) bool { return name == "account" || name == "ou" || name == "memberOf" }

// member makes an account a member of some groups, and no longer one of others.
func (d *Domain) member(c *ldap.Conn, dn string, in, out []string) error {
	for _, g := range in {
		m := ldap.NewModifyRequest(g, nil)
		m.Add("member", []string{dn})
		if err := c.Modify(m); err != nil && !ldap.IsErrorAnyOf(err, ldap.LDAPResultEntryAlreadyExists, ldap.LDAPResultAttributeOrValueExists) {
			return fmt.Errorf("group %s: %w", g, err)
		}
	}
	for _, g := range out {
		m := ldap.NewModifyRequest(g, nil)
		m.Delete("member", []string{dn})
		if err := c.Modify(m); err != nil && !ldap.IsErrorAnyOf(err, ldap.LDAPResultUnwillingToPerform, ldap.LDAPResultNoSuchAttribute, ldap.LDAPResultNoSuchObject) {
			return fmt.Errorf("group %s: %w", g, err)
		}
	}
	return nil
}

// bring brings an account of ours in line. Attributes that the setup names have what it says, and nothing else.
func (d *Domain) bring(c *ldap.Conn, change entry.Change, a account) error {
	want, seen, gone := byAttribute(change.Want), byAttribute(a.Values), byAttribute(change.Gone())
	m := ldap.NewModifyRequest(a.dn, nil)
	for name, values := range want {
		if !special(name) && !same(values, seen[name]) {
			m.Replace(name, values)
		}
	}
	for name := range gone {
		if _, stays := want[name]; !stays && !special(name) && len(seen[name]) > 0 {
			m.Replace(name, nil)
		}
	}
	if a.control&disabled != 0 {
		m.Replace("userAccountControl", []string{strconv.Itoa(a.control &^ disabled)})
	}
	if a.Owner != change.Owner.String() { // the server refuses it if it is another one by now
		m.Delete(d.Mark, []string{a.Owner})
		m.Add(d.Mark, []string{change.Owner.String()})
	}
	if len(m.Changes) > 0 {
		if err := c.Modify(m); err != nil {
			return err
		}
	}
	lacks := slices.DeleteFunc(slices.Clone(want["memberOf"]), func(g string) bool { return slices.Contains(seen["memberOf"], g) })
	if err := d.member(c, a.dn, lacks, gone["memberOf"]); err != nil {
		return err
	}
	if unit := want["ou"]; !same(unit, seen["ou"]) {
		return d.move(c, a, unit[0])
	}
	return nil
}

func same(a, b []string) bool {
	a, b = slices.Clone(a), slices.Clone(b)
	slices.Sort(a)
	slices.Sort(b)
	return slices.Equal(a, b)
}

func (d *Domain) move(c *ldap.Conn, a account, unit string) error {
	first := strings.TrimSuffix(a.dn, ","+entry.ParentDN(a.dn))
	return c.ModifyDN(ldap.NewModifyDNRequest(a.dn, first, true, unit))
}

// takeOut deletes an account, with what hangs on it, or disables it.
func (d *Domain) takeOut(c *ldap.Conn, a account) error {
	if !d.retire.Keep {
		return c.Del(ldap.NewDelRequest(a.dn, []ldap.Control{ldap.NewControlSubtreeDelete()}))
	}
	if a.control&disabled == 0 {
		m := ldap.NewModifyRequest(a.dn, nil)
		m.Replace("userAccountControl", []string{strconv.Itoa(a.control | disabled)})
		if err := c.Modify(m); err != nil {
			return err
		}
	}
	if d.retire.Unit != "" && entry.FoldDN(entry.ParentDN(a.dn)) != entry.FoldDN(d.retire.Unit) {
		return d.move(c, a, d.retire.Unit)
	}
	return nil
}
