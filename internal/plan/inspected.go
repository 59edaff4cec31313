package plan

import (
	"cmp"
	"fmt"
	"strings"

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/inspect"
	"mintbatch/internal/core/machine"
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
