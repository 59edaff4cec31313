// Package quota holds what machines use, and would use, against what they may.
package quota

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
)

// Resource is what a quota limits.
type Resource int

// The resources.
const (
	Machines Resource = iota
	CPUs
	Memory
	Disk // of the system disk and all data disks, as the guest sees them
	resources
)

// Resources lists them, in the order in which they are shown.
func Resources() []Resource { return []Resource{Machines, CPUs, Memory, Disk} }

// String is the key of the resource in the setup, and its column in the sheet but for machines.
func (r Resource) String() string { return [...]string{"machines", "cpus", "memory", "disk"}[r] }

// MarshalText writes the resource as its key.
func (r Resource) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// InWords writes an amount of the resource.
func (r Resource) InWords(n int64) string {
	switch r {
	case Memory, Disk:
		return machine.Size(n).String()
	case CPUs:
		return fmt.Sprintf("%d CPUs", n)
	}
	return fmt.Sprintf("%d machines", n)
}

// Amounts are a count of each resource; sizes are in bytes.
type Amounts [resources]int64

// Use is what a machine uses, and what quotas find it by.
type Use struct {
	Site    string            `json:"-"`
	Owner   string            `json:"owner,omitempty"`
	Presets []string          `json:"presets,omitempty"` // its own, and those that this extends
	Labels  map[string]string `json:"labels,omitempty"`
	Amounts Amounts           `json:"amounts"`
	// Unknown is set for what nobody has said: the template decides it.
	Unknown [resources]bool `json:"unknown,omitzero"`
}

// Of is what a machine of a spec uses. What the spec leaves to the template counts as has says, the spec that the machine was
// made to; nil if it is yet to be made.
func Of(site string, s, has *machine.Spec, lineage []string) Use {
	u := Use{Site: site, Owner: s.Info.Owner, Presets: lineage, Labels: s.Info.Labels}
	cpus, memory, disk := s.Shape.CPUs, s.Shape.Memory, s.Shape.Disk
	if has != nil {
		cpus, memory = cmp.Or(cpus, has.Shape.CPUs), cmp.Or(memory, has.Shape.Memory)
		disk = max(disk, has.Shape.Disk) // which never shrinks
	}
	u.Unknown = [resources]bool{CPUs: cpus == 0, Memory: memory == 0, Disk: disk == 0}
	for _, d := range s.Shape.Disks {
		disk += d.Size
	}
	u.Amounts = Amounts{Machines: 1, CPUs: int64(cpus), Memory: int64(memory), Disk: int64(disk)}
	return u
}

// Rule limits what some machines use together.
type Rule struct {
	Name string
	// Owner, Site and Preset are globs, and Labels globs by the label's name, that the machines match; empty for all.
	Owner, Site, Preset string
	Labels              map[string]string
	// Each says by what the machines are counted apart; nil if they are counted together.
	Each func(Use) string
	// Limits are of each resource; nil for none.
	Limits [resources]*int64
}

// counts reports whether the rule counts a machine.
func (r *Rule) counts(u *Use) bool {
	if r.Owner != "" && !matches(r.Owner, u.Owner) || r.Site != "" && !glob.Match([]string{r.Site}, u.Site) {
		return false
	}
	if r.Preset != "" && !slices.ContainsFunc(u.Presets, func(p string) bool { return glob.Match([]string{r.Preset}, p) }) {
		return false
	}
	for name, pattern := range r.Labels {
		if value, has := u.Labels[name]; !has || !matches(pattern, value) {
			return false
		}
	}
	return true
}

// share is by what the rule counts a machine apart.
func (r *Rule) share(u *Use) string {
	if r.Each == nil {
		return ""
	}
	return r.Each(*u)
}

// counter finds the rules that count a machine; of machines that are alike in what rules look at, once.
type counter struct {
	rules  []Rule
	labels []string // that rules look at
	known  map[string][]int
}

func newCounter(rules []Rule) *counter {
	c := &counter{rules: rules, known: map[string][]int{}}
	for _, r := range rules {
		c.labels = append(c.labels, slices.Collect(maps.Keys(r.Labels))...)
	}
	slices.Sort(c.labels)
	c.labels = slices.Compact(c.labels)
	return c
}

// of lists the rules that count a machine, in their order.
func (c *counter) of(u *Use) []int {
	var labels []string
	for _, name := range c.labels {
		if value, has := u.Labels[name]; has {
			labels = append(labels, name, value)
		}
	}
	alike := fmt.Sprintf("%q %q %q %q", u.Owner, u.Site, u.Presets, labels)
	all, known := c.known[alike]
	if !known {
		for i := range c.rules {
			if c.rules[i].counts(u) {
				all = append(all, i)
			}
		}
		c.known[alike] = all
	}
	return all
}

// matches compares what people write in cells, of which one writes Survey and another survey.
func matches(pattern, value string) bool {
	return glob.Match([]string{strings.ToLower(pattern)}, strings.ToLower(value))
}

// Change is what a row makes of what its machine uses; Before is nil for a machine that is not there yet, and After never.
type Change struct{ Before, After *Use }

// Over is a limit that a change does not fit under.
type Over struct {
	Change   int // its place among the changes
	Rule     string
	Share    string // the value by which the rule counts apart; empty if it does not
	Resource Resource
	Before   int64 // without the change, but with those that fit
	After    int64
	Limit    int64
	Unknown  bool // how much the machine would use is not said
}

// Total is what the machines that a rule counts together use.
type Total struct {
	Rule     string   `json:"quota"`
	Share    string   `json:"share,omitempty"`
	Resource Resource `json:"resource"`
	Limit    int64    `json:"limit"`
	Used     int64    `json:"used"`
	Proof    int64    `json:"proof"`             // what all changes would add, or take away
	Left     int64    `json:"left"`              // after them; negative if they go over
	Unknown  int      `json:"unknown,omitempty"` // machines of which nobody has said how much they use
}

// account is a resource of a share of a rule.
type account struct {
	rule     int
	share    string
	resource Resource
}

// Judge counts what stands, which has what the changes have before, and then the changes: first what they give up, then what they
// take, in their order. One that does not fit is told, and what it takes is not counted for those behind it.
func Judge(rules []Rule, standing []Use, changes []Change) (over []Over, totals []Total) {
	counted := newCounter(rules)
	used, unknown := map[account]int64{}, map[account]int{}
	for i := range standing {
		for a, n := range counted.amounts(&standing[i]) {
			used[a] += n
			if standing[i].Unknown[a.resource] {
				unknown[a]++
			}
		}
	}
	asked, fits := map[account]int64{}, maps.Clone(used)
	deltas := make([]map[account]int64, len(changes))
	for i, c := range changes {
		deltas[i] = counted.amounts(c.After)
		for a, n := range counted.amounts(c.Before) {
			deltas[i][a] -= n
		}
		for a, n := range deltas[i] {
			asked[a] += n
			fits[a] += min(n, 0)
		}
	}
	for i, c := range changes {
		if found := c.over(i, counted, fits, deltas[i]); len(found) > 0 {
			over = append(over, found...)
			continue
		}
		for a, n := range deltas[i] {
			fits[a] += max(n, 0)
		}
	}
	return over, totalsOf(rules, used, asked, unknown)
}

// amounts is what rules count of a machine; nil is none.
func (c *counter) amounts(u *Use) map[account]int64 {
	all := map[account]int64{}
	if u == nil {
		return all
	}
	for _, i := range c.of(u) {
		share := c.rules[i].share(u)
		for r, limit := range c.rules[i].Limits {
			if limit != nil {
				all[account{i, share, Resource(r)}] = u.Amounts[r]
			}
		}
	}
	return all
}

// over tells under which limits a change does not fit.
func (c Change) over(i int, counted *counter, fits, delta map[account]int64) (found []Over) {
	for _, k := range counted.of(c.After) {
		share := counted.rules[k].share(c.After)
		for r, limit := range counted.rules[k].Limits {
			if limit == nil {
				continue
			}
			a := account{k, share, Resource(r)}
			o := Over{Change: i, Rule: counted.rules[k].Name, Share: share, Resource: a.resource, Before: fits[a], After: fits[a] + delta[a], Limit: *limit}
			if o.Unknown = c.Before == nil && c.After.Unknown[r]; o.Unknown || delta[a] > 0 && o.After > o.Limit {
				found = append(found, o)
			}
		}
	}
	return found
}

// totalsOf lists the accounts by rule, share and resource; a rule that counts nothing has one all the same, unless it counts apart.
func totalsOf(rules []Rule, used, asked map[account]int64, unknown map[account]int) (totals []Total) {
	for i, r := range rules {
		shares := map[string]bool{}
		if r.Each == nil {
			shares[""] = true
		}
		for _, some := range []map[account]int64{used, asked} {
			for a := range some {
				if a.rule == i {
					shares[a.share] = true
				}
			}
		}
		for _, share := range slices.Sorted(maps.Keys(shares)) {
			for _, of := range Resources() {
				if limit := r.Limits[of]; limit != nil {
					a := account{i, share, of}
					totals = append(totals, Total{r.Name, share, of, *limit, used[a], asked[a], *limit - used[a] - asked[a], unknown[a]})
				}
			}
		}
	}
	return totals
}
