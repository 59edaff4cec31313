package entry

import (
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/machine"
)

// The account of a machine is the same however its cells are written, and no cell gets out of its part of a name.
func TestAccounts(t *testing.T) {
	c := Computers{Directory: Directory{System: "accounts", Attributes: map[string][]string{"location": {"{{.machine.owner}}"}, "managedBy": {"CN=Desk, OU=x"}}},
		Unit: "OU={{.machine.owner}}, DC=Lab,DC=example", Groups: []string{"CN=a\\, b , DC=lab"}}
	m := &machine.Machine{Key: machine.Key{Site: "quay", Name: "x"}}
	m.Guest.Hostname, m.Guest.Domain, m.Info.Owner = "BMS-Tide-01", "Lab.example", "sonar,ou=other"
	item, err := c.Of(m)
	require.NoError(t, err)
	assert.Equal(t, Item{System: "accounts", Name: "bms-tide-01$", Values: []string{Enabled, `ou: ou=sonar\,ou\=other,dc=lab,dc=example`, "dNSHostName: bms-tide-01.lab.example",
		"location: sonar,ou=other", "managedBy: cn=desk,ou=x", `memberOf: cn=a\, b,dc=lab`}}, item)
	parsed, err := ldap.ParseDN(strings.TrimPrefix(item.Values[1], InUnit))
	require.NoError(t, err)
	assert.Len(t, parsed.RDNs, 3)
}

// A folded name is the same name, and stays as it is.
func FuzzFoldDN(f *testing.F) {
	for _, dn := range []string{"OU=a, DC=b", `CN=x\, y ,DC=z`, `CN=x\\,DC=z`, ",,", `\`, " "} {
		f.Add(dn)
	}
	f.Fuzz(func(t *testing.T, dn string) {
		once := FoldDN(dn)
		assert.Equal(t, once, FoldDN(once))
		if a, err := ldap.ParseDN(dn); err == nil && strings.ToLower(dn) == strings.ToUpper(strings.ToLower(dn)) {
			b, err := ldap.ParseDN(once)
			require.NoError(t, err)
			assert.True(t, a.EqualFold(b), "%q %q", dn, once)
		}
	})
}
