package directory

import (
	"context"
	"errors"
	"net/url"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/enrol"
	"mintbatch/internal/enrol/ldaptest"
)

func enter(name string, addresses ...string) entry.Change {
	c := entry.Change{System: "hosts", Name: "cn=" + name + ",ou=hosts," + ldaptest.Base, Want: []string{"cn: " + name, "objectClass: device", "objectClass: ipHost"},
		Owner: entry.Owner{Ledger: uuid.MustParse("5a0c2a44-6c1b-4b1e-9d0f-6c4c6c0f4a11"), Key: machine.Key{Site: "quay", Name: name}}}
	for _, a := range addresses {
		c.Want = append(c.Want, "ipHostNumber: "+a)
	}
	return c
}

// What is entered is found, changed and deleted again; what others have entered stays.
func TestRealDirectory(t *testing.T) {
	real, err := ldaptest.Start(t.TempDir())
	if errors.Is(err, ldaptest.ErrNone) {
		t.Skip(err)
	}
	require.NoError(t, err)
	t.Cleanup(real.Stop)
	o := Options{URL: &url.URL{Scheme: "ldap", Host: real.Address}, Login: ldaptest.Login, Password: ldaptest.Password, Attributes: []string{"cn", "ipHostNumber", "objectClass"}, Mark: "description"}
	require.NoError(t, o.Fingerprint.UnmarshalText([]byte(real.Fingerprint)))
	ctx := context.Background()
	s := New(o)
	defer s.Close()
	c := enter("bms-tide-01", "198.51.100.101", "2001:db8:b0a7::101")
	require.NoError(t, s.Change(ctx, c))
	require.NoError(t, s.Change(ctx, c), "again changes nothing")
	seen, err := s.Look(ctx, []string{c.Name, "cn=none,ou=hosts," + ldaptest.Base})
	require.NoError(t, err)
	assert.ElementsMatch(t, c.Want, seen[0].Values)
	assert.Equal(t, c.Owner.String(), seen[0].Owner)
	assert.Equal(t, entry.Seen{Name: "cn=none,ou=hosts," + ldaptest.Base}, seen[1])
	assert.Contains(t, real.Search(c.Name), "ipHostNumber: 198.51.100.101\n")

	assert.ErrorIs(t, s.Change(ctx, enter("theirs", "198.51.100.9")), entry.ErrForeign)
	foreign := enter("theirs")
	foreign.Had, foreign.Want, foreign.Was = foreign.Want, nil, foreign.Owner
	require.NoError(t, s.Change(ctx, foreign), "there is nothing of its own to delete")
	assert.Contains(t, real.Search(ldaptest.Theirs), "cn: theirs\n")
	assert.ErrorIs(t, s.Change(ctx, entry.Change{Name: "cn=x,ou=none," + ldaptest.Base, Want: []string{"cn: x", "objectClass: device"}, Owner: c.Owner}), enrol.ErrRefused)

	link, err := s.connected()
	require.NoError(t, err)
	m := ldap.NewModifyRequest(c.Name, nil)
	m.Add("description", []string{"by the window"})
	m.Add("ipHostNumber", []string{"198.51.100.222"})
	require.NoError(t, link.Modify(m))
	c.Had, c.Was = c.Want, c.Owner
	c.Want = append(c.Want[:3:3], "ipHostNumber: 198.51.100.102")
	c.Owner.Name = "bms-tide-09" // it is renamed
	require.NoError(t, s.Change(ctx, c))
	text := real.Search(c.Name)
	for _, part := range []string{"ipHostNumber: 198.51.100.102\n", "ipHostNumber: 198.51.100.222\n", "description: by the window\n", "machine=quay/bms-tide-09\n"} {
		assert.Contains(t, text, part)
	}
	assert.NotContains(t, text, "198.51.100.101")
	c.Had, c.Want, c.Was = c.Want, nil, c.Owner
	require.NoError(t, s.Change(ctx, c))
	require.NoError(t, s.Change(ctx, c), "it is gone already")
	assert.Contains(t, real.Search(c.Name), "No such object")

	wrong := o
	wrong.Password = "wrong"
	err = New(wrong).Change(ctx, c)
	assert.ErrorIs(t, err, enrol.ErrRefused)
	assert.Contains(t, err.Error(), "Invalid Credentials")
	wrong = o
	require.NoError(t, wrong.Fingerprint.UnmarshalText([]byte("sha256:"+strings.Repeat("11", 32))))
	assert.ErrorContains(t, New(wrong).Change(ctx, c), "fingerprint")
	real.Stop()
	assert.ErrorIs(t, s.Change(ctx, c), enrol.ErrUnreachable)
}

func TestNames(t *testing.T) {
	d := entry.Directory{System: "hosts", Entry: "cn={{.machine.owner}},ou=hosts", Attributes: map[string][]string{"cn": {"{{.machine.name}}"}, "l": {"{{.machine.notes}}"}}}
	m := &machine.Machine{Key: machine.Key{Site: "quay", Name: "x"}}
	m.Info.Owner, m.Info.Notes = ` a,b="c";\d `, "first\n\n second"
	item, err := d.Of(m)
	require.NoError(t, err)
	assert.Equal(t, entry.Item{System: "hosts", Name: `cn=\ a\,b\=\"c\"\;\\d\ ,ou=hosts`, Values: []string{"cn: x", "l: first", "l: second"}}, item)
	_, err = ldap.ParseDN(item.Name)
	assert.NoError(t, err)
}
