package main

import (
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/miekg/dns"
	"github.com/rogpeppe/go-internal/testscript"

	"mintbatch/internal/enrol/ldaptest"
)

// byOthers makes an update of the sandbox's DNS server, as somebody else would: `dns-add DIR RECORD` adds a record, and
// `dns-delete DIR RECORD` takes it out.
func byOthers(add bool) func(*testscript.TestScript, bool, []string) {
	return func(ts *testscript.TestScript, _ bool, args []string) {
		read := func(name string) string {
			text, err := os.ReadFile(ts.MkAbs(args[0]) + "/sandbox/" + name)
			ts.Check(err)
			return strings.TrimSpace(string(text))
		}
		rr, err := dns.NewRR(args[1])
		ts.Check(err)
		name := rr.Header().Name
		m := new(dns.Msg).SetUpdate(dns.Fqdn(name[strings.Index(name, "brackwater"):]))
		if add {
			m.Insert([]dns.RR{rr})
		} else {
			m.Remove([]dns.RR{rr})
		}
		m.SetTsig("mint.", dns.HmacSHA256, 300, time.Now().Unix())
		client := dns.Client{Net: "tcp", TsigSecret: map[string]string{"mint.": read("dns.key")}}
		reply, _, err := client.Exchange(m, read("dns.listen"))
		ts.Check(err)
		if reply.Rcode != dns.RcodeSuccess {
			ts.Fatalf("the update was refused: %s", dns.RcodeToString[reply.Rcode])
		}
	}
}

// records writes into a setup where the sandbox's keeper of records is, and the fingerprint of its certificate: `records SETUP DIR`.
func records(ts *testscript.TestScript, _ bool, args []string) {
	setup, demo := ts.MkAbs(args[0]), ts.MkAbs(args[1])
	text, err := os.ReadFile(setup)
	ts.Check(err)
	own, err := os.ReadFile(demo + "/mintbatch.yaml")
	ts.Check(err)
	address, err := os.ReadFile(demo + "/sandbox/listen")
	ts.Check(err)
	print := regexp.MustCompile(`sha256:[0-9a-f]{64}`).FindString(string(own))
	text = []byte(strings.NewReplacer("RECORDS", "https://"+strings.TrimSpace(string(address))+"/records/items", "BOOK", "https://"+strings.TrimSpace(string(address))+"/book", "PRINT", print).Replace(string(text)))
	ts.Check(os.WriteFile(setup, text, 0o600))
}

// startDirectory starts a directory server and adds it to the setup of a folder as the directory `hosts`: `directory DIR`. `$LDAP` is its
// address. The script goes on only where one is installed.
func startDirectory(ts *testscript.TestScript, _ bool, args []string) {
	dir := ts.MkAbs("ldap")
	ts.Check(os.MkdirAll(dir, 0o700))
	s, err := ldaptest.Start(dir)
	if errors.Is(err, ldaptest.ErrNone) {
		ts.Logf("skipped: %s", err)
		ts.Setenv("LDAP", "")
		return
	}
	ts.Check(err)
	ts.Defer(s.Stop)
	ts.Setenv("LDAP", s.Address)
	ts.Check(os.WriteFile(ts.MkAbs(args[0])+"/ldap.password", []byte(ldaptest.Password+"\n"), 0o600))
	addToSetup(ts, args[0], fmt.Sprintf(`directory:
  hosts:
    url: ldap://%s
    fingerprint: %s
    login: %s
    password: file:ldap.password
    entry: "cn={{.machine.hostname}},ou=hosts,%s"
    attributes:
      objectClass: [device, ipHost]
      cn: "{{.machine.hostname}}"
      ipHostNumber: "{{range .machine.addresses}}{{.}}\n{{end}}"
      l: "{{.machine.owner}}"
`, s.Address, s.Fingerprint, ldaptest.Login, ldaptest.Base))
}
