package setup

import (
	"cmp"
	"fmt"
	"net/mail"
	"net/netip"
	"path"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
)

// Requests says who may ask for machines by sending a sheet.
type Requests struct {
	Sources        map[string]RequestSource    `key:"sources" doc:"where sheets come from"`
	Rules          map[string]RequestRule      `key:"rules" doc:"who may ask for what"`
	Mail           RequestMail                 `key:"mail" doc:"how answers are sent by mail"`
	Administrators []string                    `key:"administrators" doc:"addresses that are told by mail of what could not be made, and why"`
	Others         string                      `key:"others" doc:"what those are answered by mail who send a sheet that no rule is for (default: nothing)"`
	Keys           map[string]secret.Addressee `key:"keys" doc:"by what senders alone can read what is sealed to them: an age recipient or an SSH public key, by their address"`
	Warn           time.Duration               `key:"warn" doc:"how long before their date, in until, the owners of machines are warned by mail, such as 168h (default: not at all)"`
	Extend         time.Duration               `key:"extend" doc:"how far from now an owner may extend that date by answering, such as 2160h (default: not at all)"`
}

// RequestMail is how answers are sent.
type RequestMail struct {
	Server      URL                `key:"server" doc:"where mail is handed in: smtps://HOST, or smtp://HOST, which has to offer TLS unless it is this computer"`
	Login       string             `key:"login" doc:"the login, if it takes one"`
	Password    Reference          `key:"password" doc:"of the login, best as file:PATH, env:NAME or secret:NAME"`
	Fingerprint secret.Fingerprint `key:"fingerprint" doc:"SHA-256 of the certificate to trust, for one that no authority signed"`
	From        string             `key:"from" doc:"the address that answers are from; mail to it should come to one of the sources"`
	Name        string             `key:"name" doc:"the name beside the address (default: Mint Batch)"`
	Resend      time.Duration      `key:"resend" doc:"after how long an answer is sent again of which nobody knows whether it was sent, and no copy has come (default 15m)"`
}

// Resends is after how long an answer is sent again of which nobody knows whether it was sent.
func (m RequestMail) Resends() time.Duration { return cmp.Or(m.Resend, 15*time.Minute) }

// RequestSource is a place that sheets come from.
type RequestSource struct {
	Folder string `key:"folder" doc:"a folder that sheets are put into, relative to this file"`
	Sender string `key:"sender" doc:"who puts sheets into the folder (default: the source's name)"`

	Maildir     string             `key:"maildir" doc:"a mailbox in a folder (Maildir), relative to this file"`
	IMAP        URL                `key:"imap" doc:"a mailbox at a server: imaps://HOST, or imap://HOST, which has to offer TLS unless it is this computer"`
	Mailbox     string             `key:"mailbox" doc:"the mailbox at the server (default: INBOX)"`
	Login       string             `key:"login" doc:"the login at the server"`
	Password    Reference          `key:"password" doc:"of the login, best as file:PATH, env:NAME or secret:NAME"`
	Fingerprint secret.Fingerprint `key:"fingerprint" doc:"SHA-256 of the certificate to trust, for one that no authority signed"`

	Trust      string         `key:"trust" doc:"the mail server, by the name in its Authentication-Results, whose verdict on senders is believed"`
	DKIM       machine.Switch `key:"dkim" doc:"on: senders are believed whose domain has signed their mail (DKIM)"`
	Resolver   netip.AddrPort `key:"resolver" doc:"the DNS server that has the keys of domains (default: that of the system)"`
	Unverified machine.Switch `key:"unverified" doc:"on: everybody is believed to be who they say they are"`
}

// Passwords says whether senders get the passwords of their machines.
type Passwords string

// Whether they do.
const (
	NoPasswords     Passwords = "none"
	SealedPasswords Passwords = "sealed"
)

// Words lists them.
func (Passwords) Words() []string { return []string{string(NoPasswords), string(SealedPasswords)} }

// KeyOf is by what a sender alone can read what is sealed to them.
func (r Requests) KeyOf(sender string) (secret.Addressee, bool) {
	for address, key := range r.Keys {
		if strings.EqualFold(address, sender) {
			return key, true
		}
	}
	return secret.Addressee{}, false
}

// IsMail reports whether messages come from a source.
func (s RequestSource) IsMail() bool { return s.Maildir != "" || s.IMAP.URL != nil }

// RequestRule is what a kind of request may ask for.
type RequestRule struct {
	Sources   []string      `key:"sources" doc:"the sources that it is for (default: all)"`
	From      []string      `key:"from" doc:"the senders that it is for, as globs (default: all)"`
	Subject   []string      `key:"subject" doc:"words that the subject of a mail must have, all of them"`
	Kinds     []string      `key:"kinds" doc:"the endings of files that may be sheets, such as xlsx (default: csv tsv xlsx xlsm ods json yaml yml)"`
	Approvers []string      `key:"approvers" doc:"the addresses of those who may approve by mail"`
	Columns   []string      `key:"columns" doc:"the columns that a sheet may fill (default: machine preset template cpus memory disk disks network address hostname login keys timezone locale notes until keep labels)"`
	Presets   []string      `key:"presets" doc:"the presets that machines may have, as globs (default: all)"`
	Templates []string      `key:"templates" doc:"the templates that they may be cloned from, as globs (default: all)"`
	Sites     []string      `key:"sites" doc:"the sites that they may be made at, as globs (default: all)"`
	Networks  []string      `key:"networks" doc:"the networks that they may be connected to, as globs (default: all)"`
	Pools     []string      `key:"pools" doc:"the pools that their addresses may be of, as globs; then no row names an address itself (default: all addresses)"`
	Set       Values        `key:"set" doc:"values of columns for all machines, whatever the sheet says; {sender} stands for who has sent it (default: owner: \"{sender}\")"`
	Passwords Passwords     `key:"passwords" doc:"none (the default), or sealed: senders get the passwords of their machines, sealed to the key that keys has of them"`
	Most      int           `key:"max_machines" doc:"how many machines a request may ask for (default 100)"`
	Free      int           `key:"unapproved" doc:"up to how many machines nobody needs to approve (default 0: somebody always does)"`
	Remind    time.Duration `key:"remind" doc:"after how long the approvers are asked again (default 48h)"`
	Expire    time.Duration `key:"expire" doc:"after how long a request that nobody has decided on is closed (default 336h)"`
}

// usualColumns are those that a sheet may fill where a rule names none.
var usualColumns = []string{"machine", "preset", "template", "cpus", "memory", "disk", "disks", "network", "address", "hostname", "login", "keys", "timezone", "locale", "notes", "until", "keep", "labels"}

// sheetKinds are the endings of files that may be sheets.
var sheetKinds = []string{"csv", "tsv", "xlsx", "xlsm", "ods", "json", "yaml", "yml"}

// Takes reports whether a file may be a sheet, by its name.
func (r RequestRule) Takes(name string) bool {
	kinds := r.Kinds
	if len(kinds) == 0 {
		kinds = sheetKinds
	}
	ending := strings.ToLower(strings.TrimPrefix(path.Ext(name), "."))
	return slices.ContainsFunc(kinds, func(kind string) bool { return strings.EqualFold(kind, ending) })
}

// Allowed are the columns that a sheet may fill.
func (r RequestRule) Allowed() []string {
	if len(r.Columns) > 0 {
		return r.Columns
	}
	return usualColumns
}

// MostMachines is how many machines a request may ask for.
func (r RequestRule) MostMachines() int { return cmp.Or(r.Most, 100) }

// Reminds is after how long the approvers are asked again.
func (r RequestRule) Reminds() time.Duration { return cmp.Or(r.Remind, 48*time.Hour) }

// Expires is after how long a request that nobody has decided on is closed.
func (r RequestRule) Expires() time.Duration { return cmp.Or(r.Expire, 14*24*time.Hour) }

// RequestRuleFor finds the first rule, by name, for who sends something by a source under a subject.
func (s *Setup) RequestRuleFor(source, sender, subject string) (name string, found bool) {
	subject = strings.ToLower(subject)
	for name, rule := range sorted(s.Requests.Rules) {
		if (len(rule.Sources) == 0 || slices.Contains(rule.Sources, source)) && glob.Match(lower(rule.From), strings.ToLower(sender)) &&
			!slices.ContainsFunc(rule.Subject, func(word string) bool { return !strings.Contains(subject, strings.ToLower(word)) }) {
			return name, true
		}
	}
	return "", false
}

// Approves reports whether a rule lets somebody approve by mail.
func (r RequestRule) Approves(address string) bool {
	return slices.ContainsFunc(r.Approvers, func(a string) bool { return strings.EqualFold(a, address) })
}

func lower(all []string) []string {
	lowered := make([]string, len(all))
	for i, s := range all {
		lowered[i] = strings.ToLower(s)
	}
	return lowered
}

func (s *Setup) checkRequests(bad report) {
	for name, source := range sorted(s.Requests.Sources) {
		path := []string{"requests", "sources", name}
		places := 0
		for _, is := range []bool{source.Folder != "", source.Maildir != "", source.IMAP.URL != nil} {
			if is {
				places++
			}
		}
		verified := source.Trust != "" || source.DKIM == machine.SwitchOn || source.Unverified == machine.SwitchOn
		switch {
		case places != 1:
			bad(fmt.Sprintf("source %s has to be one place that sheets come from", name), "write folder: PATH, maildir: PATH or imap: URL", path...)
		case source.IMAP.URL != nil && (source.IMAP.Scheme != "imap" && source.IMAP.Scheme != "imaps" || source.IMAP.User != nil || source.Login == ""):
			bad(fmt.Sprintf("source %s needs an imap of the form imaps://HOST, and a login beside it", name), "", append(path, "imap")...)
		case source.IsMail() && !verified:
			bad(fmt.Sprintf("source %s does not say how senders are known: anybody can write any sender", name), "write trust: SERVER or dkim: on; unverified: on believes everybody", path...)
		case source.IsMail() && s.Requests.Mail.Server.URL == nil:
			bad(fmt.Sprintf("requests come by mail (source %s), and there is no mail server for the answers", name), "write mail: {server: smtps://HOST, from: ADDRESS}", path...)
		}
	}
	if min(s.Requests.Warn, s.Requests.Extend) < 0 {
		bad("times must be 0 or more", "", "requests")
	}
	if s.Requests.Warn > 0 && s.Requests.Mail.Server.URL == nil {
		bad("owners are to be warned, and there is no mail server to write to them by", "write mail: {server: smtps://HOST, from: ADDRESS}", "requests", "warn")
	}
	for _, address := range s.Requests.Administrators {
		if !isAddress(address) {
			bad(fmt.Sprintf("administrator %q is no address", address), "", "requests", "administrators")
		}
	}
	if (len(s.Requests.Administrators) > 0 || s.Requests.Others != "") && s.Requests.Mail.Server.URL == nil {
		bad("people are to be told by mail, and there is no mail server", "write mail: {server: smtps://HOST, from: ADDRESS}", "requests")
	}
	if m := s.Requests.Mail; m.Server.URL != nil {
		if m.Server.Scheme != "smtp" && m.Server.Scheme != "smtps" || m.Server.User != nil {
			bad("the mail server has to be of the form smtps://HOST", "", "requests", "mail", "server")
		}
		if !isAddress(m.From) {
			bad("answers by mail need an address that they are from", "write from: mint@brackwater.example", "requests", "mail")
		}
	}
	for name, rule := range sorted(s.Requests.Rules) {
		path := []string{"requests", "rules", name}
		for _, address := range rule.Approvers {
			if !isAddress(address) {
				bad(fmt.Sprintf("rule %s: approver %q is no address", name, address), "", append(path, "approvers")...)
			}
		}
		if len(rule.Approvers) > 0 && s.Requests.Mail.Server.URL == nil {
			bad(fmt.Sprintf("rule %s has approvers, and there is no mail server to ask them by", name), "write mail: {server: smtps://HOST, from: ADDRESS}", append(path, "approvers")...)
		}
		for _, source := range rule.Sources {
			if _, known := s.Requests.Sources[source]; !known {
				bad(fmt.Sprintf("rule %s is for the unknown source %q", name, source), finding.DidYouMean(source, Names(s.Requests.Sources)), append(path, "sources")...)
			}
		}
		for _, c := range rule.Columns {
			if _, known := column.Named(c); !known {
				bad(fmt.Sprintf("rule %s allows the unknown column %q", name, c), finding.DidYouMean(c, column.Names()), append(path, "columns")...)
			}
		}
		for _, of := range []struct {
			key   string
			globs []string
			known []string
		}{{"presets", rule.Presets, Names(s.Presets)}, {"templates", rule.Templates, Names(s.Templates)}, {"sites", rule.Sites, Names(s.Sites)}, {"networks", rule.Networks, Names(s.Networks)}, {"pools", rule.Pools, s.poolNames()}} {
			if unknown, none := glob.Unmatched(of.globs, of.known); none {
				bad(fmt.Sprintf("rule %s: there are no %s %q", name, of.key, unknown), finding.DidYouMean(unknown, of.known), append(path, of.key)...)
			}
		}
		for _, from := range rule.From {
			if !glob.Valid(from) {
				bad(fmt.Sprintf("rule %s: %q is not an address or glob", name, from), "", append(path, "from")...)
			}
		}
		for _, kind := range rule.Kinds {
			if !slices.Contains(sheetKinds, strings.ToLower(kind)) {
				bad(fmt.Sprintf("rule %s: a file that ends with %q is no sheet", name, kind), "known: "+strings.Join(sheetKinds, ", "), append(path, "kinds")...)
			}
		}
		if min(rule.Most, rule.Free) < 0 || min(rule.Remind, rule.Expire) < 0 {
			bad(fmt.Sprintf("rule %s: numbers and times must be 0 or more", name), "", path...)
		}
	}
	if len(s.Requests.Sources) > 0 && len(s.Requests.Rules) == 0 {
		bad("there are sources of requests and no rules: nobody may ask for anything", "write rules: {all: {}} for one that lets everybody", "requests")
	}
}

// poolNames are the names of all pools, whichever network they are of.
func (s *Setup) poolNames() (all []string) {
	for _, n := range s.Networks {
		all = append(all, Names(n.Pools)...)
	}
	return all
}

// isAddress reports whether a text is a mail address alone.
func isAddress(text string) bool {
	a, err := mail.ParseAddress(text)
	return err == nil && a.Address == text
}
