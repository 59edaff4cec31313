package setup

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What cannot be right of a Windows domain, a Kerberos login or a notice is told at its line.
func TestAroundIsChecked(t *testing.T) {
	_, found := Read(nil, File{Name: "mintbatch.yaml", Content: []byte(`mintbatch: 1
ledger: none
sites: {quay: {kind: gateway, url: "https://127.0.0.1:1/quay"}}
directory:
  a: {kind: ad, url: "ldaps://dc1.brackwater.example"}
  b: {kind: ad, url: "ldap://dc1.brackwater.example", domain: brackwater.example, ou: "OU=x,DC=other"}
  c: {kind: ad, url: "ldap://dc1.brackwater.example", domain: brackwater.example, groups: ["CN=x"]}
  d: {kind: ad, url: "ldap://dc1.brackwater.example", domain: brackwater.example, attributes: {memberOf: x}}
  e: {kind: ad, url: "ldap://dc1.brackwater.example", domain: brackwater.example, at_retire: move}
  f: {kind: ad, url: "ldap://dc1.brackwater.example", domain: brackwater.example, login: x, kerberos: {realm: A, login: b, password: "env:X"}}
  g: {kind: ad, url: "ldap://dc1.brackwater.example", domain: brackwater.example, kerberos: {realm: A, login: b, keytab: "env:X"}}
  h: {kind: ad, url: "ldap://dc1.brackwater.example", domain: brackwater.example, ou: "OU={{.machine.nothing}},DC=brackwater,DC=example"}
  i: {kind: ad, url: "ldap://dc1.brackwater.example", domain: brackwater.example, ou: "ou=a, dc=Brackwater, dc=example", kerberos: {realm: A, login: b, keytab: "file:X"}}
dns:
  j: {server: 127.0.0.1, key: {name: a, secret: "env:X"}, kerberos: {realm: A, login: b, password: "env:X"}}
  k: {server: 127.0.0.1, kerberos: {realm: A, login: b@A, password: "env:X", host: dc1}}
notices:
  l: {on: confirmed, url: "https://x/y", needs: item}
`)})
	var lines []string
	for _, f := range found {
		lines = append(lines, strings.TrimSpace(f.At.String()+" "+f.Message))
	}
	text := strings.Join(lines, "\n")
	for _, want := range []string{"yaml:5:", "yaml:6:.*not in the domain", "yaml:7:.*not in the domain", "yaml:8:.*memberOf is written by mintbatch", "yaml:9:.*retired_ou", "yaml:10:.*two logins",
		"yaml:11:.*a keytab is a file", "yaml:12:.*no entry for key \"nothing\"", "yaml:15:.*either by a key or by a Kerberos login", "yaml:16:.*without its realm", "yaml:18:.*needs \"item\", which no notice takes"} {
		assert.Regexp(t, want, text)
	}
	assert.NotContains(t, text, "yaml:13:")
}
