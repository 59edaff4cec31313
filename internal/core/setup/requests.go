package setup

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
)

// Requests says who may ask for machines by sending a sheet.
type Requests struct {
	Sources map[string]RequestSource `key:"sources" doc:"where sheets come from"`
	Rules   map[string]RequestRule   `key:"rules" doc:"who may ask for what"`
}

// RequestSource is a place that sheets come from.
type RequestSource struct {
	Folder string `key:"folder" doc:"a folder that sheets are put into, relative to this file"`
	Sender string `key:"sender" doc:"who puts sheets into the folder (default: the source's name)"`
}

// RequestRule is what a kind of request may ask for.
type RequestRule struct {
	Sources   []string      `key:"sources" doc:"the sources that it is for (default: all)"`
	From      []string      `key:"from" doc:"the senders that it is for, as globs (default: all)"`
	Columns   []string      `key:"columns" doc:"the columns that a sheet may fill (default: machine preset template cpus memory disk disks network address hostname login keys timezone locale notes until keep labels)"`
	Presets   []string      `key:"presets" doc:"the presets that machines may have, as globs (default: all)"`
	Templates []string      `key:"templates" doc:"the templates that they may be cloned from, as globs (default: all)"`
	Sites     []string      `key:"sites" doc:"the sites that they may be made at, as globs (default: all)"`
	Networks  []string      `key:"networks" doc:"the networks that they may be connected to, as globs (default: all)"`
	Pools     []string      `key:"pools" doc:"the pools that their addresses may be of, as globs; then no row names an address itself (default: all addresses)"`
	Set       Values        `key:"set" doc:"values of columns for all machines, whatever the sheet says; {sender} stands for who has sent it (default: owner: \"{sender}\")"`
	Most      int           `key:"max_machines" doc:"how many machines a request may ask for (default 100)"`
	Free      int           `key:"unapproved" doc:"up to how many machines nobody needs to approve (default 0: somebody always does)"`
	Remind    time.Duration `key:"remind" doc:"after how long the approvers are asked again (default 48h)"`
	Expire    time.Duration `key:"expire" doc:"after how long a request that nobody has decided on is closed (default 336h)"`
}

// usualColumns are those that a sheet may fill where a rule names none.
var usualColumns = []string{"machine", "preset", "template", "cpus", "memory", "disk", "disks", "network", "address", "hostname", "login", "keys", "timezone", "locale", "notes", "until", "keep", "labels"}

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

// RequestRuleFor finds the first rule, by name, for who sends something by a source.
func (s *Setup) RequestRuleFor(source, sender string) (name string, rule RequestRule, found bool) {
	for name, rule := range sorted(s.Requests.Rules) {
		if (len(rule.Sources) == 0 || slices.Contains(rule.Sources, source)) && glob.Match(lower(rule.From), strings.ToLower(sender)) {
			return name, rule, true
		}
	}
	return "", RequestRule{}, false
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
		if source.Folder == "" {
			bad(fmt.Sprintf("source %s is no place that sheets come from", name), "write folder: PATH", "requests", "sources", name)
		}
	}
	for name, rule := range sorted(s.Requests.Rules) {
		path := []string{"requests", "rules", name}
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
