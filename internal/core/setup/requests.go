package setup

import (
	"cmp"
	"net/netip"
	"path"
	"slices"
	"strings"
	"time"

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

// MailAccess is how a mail server lets somebody in, and how it is known.
type MailAccess struct {
	Login       string             `key:"login" doc:"the login at the server, if it takes one"`
	Password    Reference          `key:"password" doc:"of the login, best as file:PATH, env:NAME or secret:NAME"`
	Fingerprint secret.Fingerprint `key:"fingerprint" doc:"SHA-256 of the certificate to trust, for one that no authority signed"`
}

// RequestMail is how answers are sent.
type RequestMail struct {
	Server URL `key:"server" doc:"where mail is handed in: smtps://HOST, or smtp://HOST, which has to offer TLS unless it is this computer"`
	MailAccess
	From   string        `key:"from" doc:"the address that answers are from; mail to it should come to one of the sources"`
	Name   string        `key:"name" doc:"the name beside the address (default: Mint Batch)"`
	Resend time.Duration `key:"resend" doc:"after how long an answer is sent again of which nobody knows whether it was sent, and no copy has come (default 15m)"`
}

// Resends is after how long an answer is sent again of which nobody knows whether it was sent.
func (m RequestMail) Resends() time.Duration { return cmp.Or(m.Resend, 15*time.Minute) }

// RequestSource is a place that sheets come from.
type RequestSource struct {
	Folder string `key:"folder" doc:"a folder that sheets are put into, relative to this file"`
	Sender string `key:"sender" doc:"who puts sheets into the folder (default: the source's name)"`

	Maildir string `key:"maildir" doc:"a mailbox in a folder (Maildir), relative to this file"`
	IMAP    URL    `key:"imap" doc:"a mailbox at a server: imaps://HOST, or imap://HOST, which has to offer TLS unless it is this computer"`
	Mailbox string `key:"mailbox" doc:"the mailbox at the server (default: INBOX)"`
	MailAccess

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
