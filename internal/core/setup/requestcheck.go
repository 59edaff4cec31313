package setup

import (
	"fmt"
	"net/mail"
	"slices"
	"strings"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
)

// checkRequests holds sources, rules and the mail server of requests against each other.
func (s *Setup) checkRequests(bad report) {
	for name, source := range sorted(s.Requests.Sources) {
		s.checkSource(name, source, bad)
	}
	s.checkMail(bad)
	for name, rule := range sorted(s.Requests.Rules) {
		s.checkRule(name, rule, bad)
	}
	if len(s.Requests.Sources) > 0 && len(s.Requests.Rules) == 0 {
		bad("there are sources of requests and no rules: nobody may ask for anything", "write rules: {all: {}} for one that lets everybody", "requests")
	}
}

func (s *Setup) checkSource(name string, source RequestSource, bad report) {
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

// checkMail looks at who is to be written to, and how.
func (s *Setup) checkMail(bad report) {
	if min(s.Requests.Warn, s.Requests.Extend) < 0 {
		bad("times must be 0 or more", "", "requests")
	}
	if s.Requests.Warn > 0 && s.Requests.Mail.Server.URL == nil {
		bad("owners are to be warned, and there is no mail server to write to them by", "write mail: {server: smtps://HOST, from: ADDRESS}", "requests", "warn")
	}
	for _, address := range s.Requests.Administrators {
		if !IsAddress(address) {
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
		if !IsAddress(m.From) {
			bad("answers by mail need an address that they are from", "write from: mint@brackwater.example", "requests", "mail")
		}
	}
}

func (s *Setup) checkRule(name string, rule RequestRule, bad report) {
	path := []string{"requests", "rules", name}
	for _, address := range rule.Approvers {
		if !IsAddress(address) {
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

// poolNames are the names of all pools, whichever network they are of.
func (s *Setup) poolNames() (all []string) {
	for _, n := range s.Networks {
		all = append(all, Names(n.Pools)...)
	}
	return all
}

// IsAddress reports whether a text is a mail address alone.
func IsAddress(text string) bool {
	a, err := mail.ParseAddress(text)
	return err == nil && a.Address == text
}
