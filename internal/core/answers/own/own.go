// Package own writes answers in a form of the user's own: templates (Go's
// text/template) to which the machine is given as data.
package own

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"strings"
	"text/template"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
)

// functions are those that a template has besides text/template's own.
var functions = template.FuncMap{
	"base64": func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) },
	"json": func(v any) (string, error) {
		b, err := json.Marshal(v)
		return string(b), err
	},
	"xml": func(s string) (string, error) {
		var b strings.Builder
		err := xml.EscapeText(&b, []byte(s))
		return b.String(), err
	},
	"shell": answers.ShellQuoted,
	"join":  func(separator string, all []string) string { return strings.Join(all, separator) },
}

// Parse reports what is wrong with a template; nil if nothing is.
func Parse(f machine.OwnFile) error {
	_, err := parse(f)
	return err
}

func parse(f machine.OwnFile) (*template.Template, error) {
	return template.New(f.Name).Funcs(functions).Option("missingkey=error").Parse(f.Text)
}

// Files fills the templates in. A key that the machine does not have is an error.
func Files(in answers.Input) ([]answers.File, error) {
	data := Data(in)
	var all []answers.File
	for _, f := range in.Guest.Own.Files {
		t, err := parse(f)
		if err != nil {
			return nil, err
		}
		var b bytes.Buffer
		if err := t.Execute(&b, data); err != nil {
			return nil, fmt.Errorf("answers of %s: %w", in.Name, err)
		}
		all = append(all, answers.File{Name: f.Name, Content: b.Bytes()})
	}
	return all, nil
}

// Data is the machine as templates see it; docs/answers.md lists it.
func Data(in answers.Input) map[string]any {
	g := in.Guest
	var adapters, logins []map[string]any
	for _, a := range in.Adapters {
		adapters = append(adapters, map[string]any{
			"network": a.Network, "mac": a.MAC, "dhcp": a.DHCP, "dhcp6": a.DHCP6, "slaac": a.SLAAC, "ipv6": !a.NoIPv6, "mtu": a.MTU, "parent": a.Parent.String(),
			"addresses": answers.Words(a.Addresses), "gateways": answers.Words(a.Gateways), "dns": answers.Words(a.DNS), "search": a.Search, "routes": a.Routes,
		})
	}
	for _, a := range g.Accounts() {
		logins = append(logins, map[string]any{
			"name": a.User, "full_name": a.Name, "groups": a.Groups, "shell": a.Shell, "sudo": a.Sudo, "keys": a.Keys,
			"password": in.Secrets.Clear[a.User], "hash": in.Secrets.Hashes[a.User], "expire_password": a.Expire.Or(false), "lock_password": a.Locked.Or(false),
		})
	}
	return map[string]any{
		"machine": in.Name, "site": in.Site, "instance": in.Instance, "preset": in.Preset,
		"hostname": g.Hostname, "domain": g.Domain, "fqdn": g.FQDN(),
		"login": g.Login, "password": in.Secrets.Clear[g.Login], "hash": in.Secrets.Hashes[g.Login], "keys": g.Keys, "logins": logins,
		"timezone": g.Timezone, "locale": g.Locale, "keyboard": g.Keyboard, "licence": g.Licence,
		"adapters": adapters, "packages": g.Packages, "commands": g.Commands, "early_commands": g.Early, "ntp": g.NTP, "proxy": g.Proxy,
		"properties": g.Properties, "labels": in.Info.Labels, "owner": in.Info.Owner, "notes": in.Info.Notes, "until": in.Info.Until, "keep": in.Info.Keep,
		"call_home": in.Home, "join": map[string]string{"domain": g.Joins, "account_password": in.Secrets.Account},
		"host_key": map[string]string{"private": in.Secrets.HostKeyPrivate, "public": in.Secrets.HostKeyPublic, "certificate": in.Secrets.HostCertificate},
	}
}
