package plan

import (
	"cmp"
	"fmt"
	"math"
	"strings"

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/inspect"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
)

// lacking warns of what a template lacks that a machine needs, and of what is left on it, as far
// as its disk was inspected and has not changed since.
func lacking(t contract.Template, s inspect.Summary, at finding.Position, m machine.Spec, told map[string]bool) (warnings finding.List) {
	if s.At.IsZero() || s.Changed != t.Changed {
		return nil
	}
	warn := func(code, message, hint string) {
		if key := at.String() + message; !told[key] {
			told[key] = true
			warnings.Add(finding.Finding{Severity: finding.Warning, Code: code, At: at, Value: t.Name, Message: fmt.Sprintf("template %s: %s", t.Name, message), Hint: hint})
		}
	}
	firmware := cmp.Or(m.Clone.Firmware, t.Firmware)
	for _, c := range s.Lacks(inspect.Need{
		CloudInit: s.System == inspect.Linux && kinds.Of(m.Guest).Reads(),
		Agent:     m.Guest.Confirm != machine.CallHome && m.Power.Starts(),
		Grow:      m.Shape.Disk > t.Disk && (m.Guest.Firstboot == nil || m.Guest.Grow.Or(true)),
		UEFI:      firmware == machine.UEFI, BIOS: firmware == machine.BIOS,
	}) {
		warn("template-lacks", c.Text, c.Remedy)
	}
	if left := s.Left(); len(left) > 0 {
		warn("template-left-overs", "clones get what is left on it: "+strings.Join(left, ", "), "`mintbatch template inspect` tells what, and how it is taken away")
	}
	return warnings
}

// KnownLacks warns, of machines that are yet to be made, of what their templates lack and what is left on them, as they were
// when they were last inspected: no site is asked whether they have changed since.
func KnownLacks(wanted []*batch.Wanted, known []ledger.Machine, inspected map[ledger.TemplateKey]inspect.Summary) (warnings finding.List) {
	made, told := map[machine.Key]bool{}, map[string]bool{}
	for _, k := range known {
		made[k.Key] = k.State == proof.Made
	}
	newest := map[ledger.TemplateKey]machine.Version{} // of those that have versions
	for of := range inspected {
		if v, is := machine.VersionOf(of.Template); is {
			of.Template = v.Template
			if v.Number > newest[of].Number {
				newest[of] = v
			}
		}
	}
	for _, w := range wanted {
		if made[w.Key] {
			continue
		}
		spec := w.Spec()
		name := spec.Clone.Template
		if v, is := newest[ledger.TemplateKey{Site: w.Site, Template: name}]; is && !w.Pinned {
			name = v.String()
		}
		s := inspected[ledger.TemplateKey{Site: w.Site, Template: name}]
		t := contract.Template{Name: name, Changed: s.Changed, Disk: math.MaxInt64} // how large its disk is, is not known
		warnings = append(warnings, lacking(t, s, w.Origin("template").At, spec, told)...)
	}
	return warnings
}
