package inspect

import (
	"slices"
	"time"

	"mintbatch/internal/core/finding"
)

// Summary is what is kept of an inspection.
type Summary struct {
	// Changed is when the disk was last changed, as its site tells it; empty if it does not.
	Changed string    `json:"changed,omitempty"`
	At      time.Time `json:"at"`
	System  Kind      `json:"system,omitempty"`
	Boot    []string  `json:"boot,omitempty"`
	// Codes are those of what was found.
	Codes []string `json:"codes,omitempty"`
}

// Summary sums an inspection up.
func (i *Inspection) Summary(changed string, at time.Time) Summary {
	s := Summary{Changed: changed, At: at.UTC().Truncate(time.Second), System: i.System.Kind, Boot: i.System.Boot}
	for _, l := range i.Leftovers {
		s.Codes = append(s.Codes, l.Code)
	}
	slices.Sort(s.Codes)
	return s
}

// Need is what a machine needs of its template.
type Need struct {
	CloudInit bool // to read its answers
	Agent     bool // to be confirmed by its site
	Grow      bool // its disk is larger
	UEFI      bool
	BIOS      bool
}

// Lacks lists what a machine needs and its template does not have.
func (s Summary) Lacks(n Need) []Check {
	var all []Check
	has := func(code string) bool { return slices.Contains(s.Codes, code) }
	for _, c := range Checks {
		needed := map[string]bool{"no-cloud-init": n.CloudInit, "cloud-init-disabled": n.CloudInit, "no-nocloud": n.CloudInit, "lacks-modules": n.CloudInit,
			"no-agent": n.Agent, "no-growpart": n.Grow, "not-generalized": true, "no-system": true}[c.Code]
		if needed && has(c.Code) {
			all = append(all, c)
		}
	}
	for _, firmware := range []struct {
		needed bool
		name   string
	}{{n.UEFI, "uefi"}, {n.BIOS, "bios"}} {
		if firmware.needed && len(s.Boot) > 0 && !slices.Contains(s.Boot, firmware.name) {
			all = append(all, Check{Text: "it does not boot with " + firmware.name, Remedy: "choose another firmware in hardware"})
		}
	}
	return all
}

// Left lists the codes of what was left on the disk and makes a bad template.
func (s Summary) Left() []string {
	var all []string
	for _, c := range Checks {
		if c.Severity == finding.Error && len(c.Code) > 5 && c.Code[:5] == "left-" && slices.Contains(s.Codes, c.Code) {
			all = append(all, c.Code)
		}
	}
	return all
}
