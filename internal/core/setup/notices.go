package setup

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/notice"
	"mintbatch/internal/core/secret"
)

// Notice is what a system is told by HTTP.
type Notice struct {
	On          []notice.Kind      `key:"on" doc:"the events: confirmed (a machine is made), remade, changed, retired, failed, run-ended"`
	URL         string             `key:"url" doc:"where it is sent: an address that begins with https://, with placeholders such as {{.taken.item}}"`
	Method      Method             `key:"method" doc:"POST (the default), PUT, PATCH or DELETE"`
	Fingerprint secret.Fingerprint `key:"fingerprint" doc:"SHA-256 of the certificate to trust, for one that no authority signed"`
	Token       Reference          `key:"token" doc:"the bearer token, best as file:PATH, env:NAME or secret:NAME"`
	Login       string             `key:"login" doc:"the login, if it takes a password"`
	Password    Reference          `key:"password" doc:"of the login, best as file:PATH, env:NAME or secret:NAME"`
	Sign        Reference          `key:"sign" doc:"the key of the signature (HMAC-SHA256), best as file:PATH, env:NAME or secret:NAME"`
	Headers     map[string]string  `key:"headers" doc:"further headers"`
	Body        string             `key:"body" doc:"a Go template of the body, best as file:PATH (default: a CloudEvent)"`
	ContentType string             `key:"content_type" doc:"of the body (default application/cloudevents+json, or application/json with body)"`
	Take        map[string]string  `key:"take" doc:"values that are kept with the machine: where they stand in the answer (JSON Pointer), by name"`
	After       []string           `key:"after" doc:"notices about the same machine that have to be sent first"`
	Needs       []string           `key:"needs" doc:"values that were taken from earlier answers, by name: of a machine that has none of them nothing is told"`
	Presets     []string           `key:"presets" doc:"only machines of these presets (default: all)"`
	Timeout     time.Duration      `key:"timeout" doc:"how long an answer is waited for (default 30s)"`
}

// Method is that of a request.
type Method string

// Words lists the methods.
func (Method) Words() []string { return []string{"POST", "PUT", "PATCH", "DELETE"} }

// Form is how its requests are written.
func (n Notice) Form() notice.Form { return notice.Form{URL: n.URL, Body: n.Body} }

// Kind is the media type of its body.
func (n Notice) Kind() string {
	usual := notice.CloudEvent
	if n.Body != "" {
		usual = notice.JSON
	}
	return cmp.Or(n.ContentType, usual)
}

// Lacks is the first value that a machine has to have and does not have; empty if it has all.
func (n Notice) Lacks(taken map[string]string) string {
	for _, name := range n.Needs {
		if taken[name] == "" {
			return name
		}
	}
	return ""
}

// Told lists the notices of an event about a machine of a preset, in the order in which they are sent.
func (s *Setup) Told(kind notice.Kind, preset string) []string {
	var all []string
	for _, name := range s.inOrder() {
		n := s.Notices[name]
		if slices.Contains(n.On, kind) && (len(n.Presets) == 0 || slices.ContainsFunc(s.Lineage(preset), func(p string) bool { return slices.Contains(n.Presets, p) })) {
			all = append(all, name)
		}
	}
	return all
}

// inOrder lists the notices, each behind those that it comes after.
func (s *Setup) inOrder() (order []string) {
	var add func(name string, depth int)
	add = func(name string, depth int) {
		if _, known := s.Notices[name]; !known || slices.Contains(order, name) || depth > len(s.Notices) {
			return
		}
		for _, before := range s.Notices[name].After {
			add(before, depth+1)
		}
		order = append(order, name)
	}
	for name := range sorted(s.Notices) {
		add(name, 0)
	}
	return order
}

// takes reports whether a value is taken from the answer to some notice.
func (s *Setup) takes(name string) bool {
	for _, n := range s.Notices {
		if _, is := n.Take[name]; is {
			return true
		}
	}
	return false
}

// checkNotices holds the notices against each other and the presets.
func (s *Setup) checkNotices(bad report) {
	for name, n := range sorted(s.Notices) {
		path := []string{"notices", name}
		if len(n.On) == 0 {
			bad(fmt.Sprintf("notice %s has no event", name), "write for example on: [confirmed, retired]", path...)
		}
		if err := n.Form().Parse(); err != nil {
			bad(fmt.Sprintf("notice %s: %s", name, err), "see the Go package text/template", path...)
		}
		fixed, _, _ := strings.Cut(n.URL, "{{")
		u, err := url.Parse(fixed)
		local := err == nil && slices.Contains([]string{"localhost", "127.0.0.1", "::1"}, u.Hostname())
		switch {
		case err != nil || u.Host == "" || u.Scheme != "https" && !(u.Scheme == "http" && local) || strings.Contains(n.URL, "{{") && u.Path == "":
			bad(fmt.Sprintf("notice %s needs a url that begins with https://, and placeholders stand in its path only", name), "", append(path, "url")...)
		case u.User != nil:
			bad(fmt.Sprintf("the url of notice %s contains a login", name), "write login and password next to it", append(path, "url")...)
		}
		for taken, pointer := range sorted(n.Take) {
			if err := notice.CheckPointer(pointer); err != nil {
				bad(fmt.Sprintf("notice %s: %s: %s", name, taken, err), "write for example /result/id", append(path, "take", taken)...)
			}
		}
		for _, needed := range n.Needs {
			if !s.takes(needed) {
				bad(fmt.Sprintf("notice %s needs %q, which no notice takes", name, needed), "write take: {"+needed+": /POINTER} in the one whose answer has it", append(path, "needs")...)
			}
		}
		for _, before := range n.After {
			if _, known := s.Notices[before]; !known || before == name {
				bad(fmt.Sprintf("notice %s comes after %q, which is no other notice", name, before), finding.DidYouMean(before, Names(s.Notices)), append(path, "after")...)
			}
		}
		for _, preset := range n.Presets {
			if _, known := s.Presets[preset]; !known {
				bad(fmt.Sprintf("notice %s names the unknown preset %q", name, preset), finding.DidYouMean(preset, Names(s.Presets)), append(path, "presets")...)
			}
		}
		if s.circle(name) {
			bad(fmt.Sprintf("notice %s comes after itself", name), "", append(path, "after")...)
		}
	}
}

// circle reports whether a notice comes after itself, by way of others.
func (s *Setup) circle(name string) bool {
	seen := map[string]bool{name: true}
	for next := slices.Clone(s.Notices[name].After); len(next) > 0; next = next[1:] {
		if before := next[0]; !seen[before] {
			seen[before] = true
			if slices.Contains(s.Notices[before].After, name) {
				return true
			}
			next = append(next, s.Notices[before].After...)
		}
	}
	return false
}
