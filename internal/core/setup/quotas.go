package setup

import (
	"fmt"
	"strings"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/pattern"
	"mintbatch/internal/core/quota"
)

// Quota is what some machines may use together.
type Quota struct {
	Owner    string            `key:"owner" doc:"only machines of this owner; may be a glob"`
	Site     string            `key:"site" doc:"only machines at this site; may be a glob"`
	Preset   string            `key:"preset" doc:"only machines of this preset, and of those that extend it; may be a glob"`
	Labels   map[string]string `key:"labels" doc:"only machines with these labels; values may be globs"`
	Each     string            `key:"each" doc:"counts machines apart by owner, site, preset or label:NAME: each may use as much (default: together)"`
	Machines *int              `key:"machines" doc:"how many there may be"`
	CPUs     *int              `key:"cpus" doc:"of all of them together"`
	Memory   *machine.Size     `key:"memory" doc:"of all of them together"`
	Disk     *machine.Size     `key:"disk" doc:"of all their disks together, as the guests see them"`
}

// eachBy are the ways to count apart.
var eachBy = map[string]func(quota.Use) string{
	"owner": func(u quota.Use) string { return strings.ToLower(u.Owner) },
	"site":  func(u quota.Use) string { return u.Site },
	"preset": func(u quota.Use) string {
		if len(u.Presets) == 0 {
			return ""
		}
		return u.Presets[0]
	},
}

var labelName = pattern.Lazy(`^[^=\s:]+$`)

// apart is how a quota counts apart.
func (q Quota) apart() (each func(quota.Use) string, known bool) {
	if q.Each == "" {
		return nil, true
	}
	if label, is := strings.CutPrefix(q.Each, "label:"); is {
		return func(u quota.Use) string { return strings.ToLower(u.Labels[label]) }, labelName().MatchString(label)
	}
	each, known = eachBy[q.Each]
	return each, known
}

// QuotaRules are the quotas, by name.
func (s *Setup) QuotaRules() (rules []quota.Rule) {
	for name, q := range sorted(s.Quotas) {
		r := quota.Rule{Name: name, Owner: q.Owner, Site: q.Site, Preset: q.Preset, Labels: q.Labels}
		r.Each, _ = q.apart()
		for i, n := range []*int{quota.Machines: q.Machines, quota.CPUs: q.CPUs} {
			if n != nil {
				r.Limits[i] = new(int64(*n))
			}
		}
		for i, n := range map[quota.Resource]*machine.Size{quota.Memory: q.Memory, quota.Disk: q.Disk} {
			if n != nil {
				r.Limits[i] = new(int64(*n))
			}
		}
		rules = append(rules, r)
	}
	return rules
}

func (s *Setup) checkQuotas(bad report) {
	for name, q := range sorted(s.Quotas) {
		path := []string{"quotas", name}
		if q.Machines == nil && q.CPUs == nil && q.Memory == nil && q.Disk == nil {
			bad(fmt.Sprintf("quota %s limits nothing", name), "write for example machines: 20", path...)
		}
		if q.Machines != nil && *q.Machines < 0 || q.CPUs != nil && *q.CPUs < 0 {
			bad(fmt.Sprintf("quota %s: a limit must be 0 or more", name), "", path...)
		}
		if _, known := q.apart(); !known {
			bad(fmt.Sprintf("quota %s counts apart by %q, which is none of owner, site, preset and label:NAME", name, q.Each), finding.DidYouMean(q.Each, Names(eachBy)), append(path, "each")...)
		}
		if q.Owner != "" && !glob.Valid(q.Owner) {
			bad(fmt.Sprintf("quota %s: %q is not a name or glob", name, q.Owner), "", append(path, "owner")...)
		}
		for label, pattern := range sorted(q.Labels) {
			if !glob.Valid(pattern) {
				bad(fmt.Sprintf("quota %s: %q is not a value or glob", name, pattern), "", append(path, "labels", label)...)
			}
		}
		s.checkCounted(name, "site", q.Site, Names(s.Sites), bad)
		s.checkCounted(name, "preset", q.Preset, Names(s.Presets), bad)
	}
}

// checkCounted refuses a quota of what is not there, which would limit nothing.
func (s *Setup) checkCounted(name, what, which string, known []string, bad report) {
	if which == "" {
		return
	}
	if _, none := glob.Unmatched([]string{which}, known); none {
		bad(fmt.Sprintf("quota %s: there is no %s %q", name, what, which), finding.DidYouMean(which, known), "quotas", name, what)
	}
}
