package batch

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
)

// rules are the setup's standards for the names of a row's machines.
func (b *builder) rules(src *source) []setup.NameRule {
	rules := []setup.NameRule{b.setup.Naming.NameRule}
	for _, p := range src.presets {
		if r, ok := b.setup.Naming.Presets[p]; ok {
			rules = append(rules, r)
		}
	}
	return rules
}

// lowered takes a name in lower case where a rule says so.
func lowered(name string, rules []setup.NameRule) string {
	if slices.ContainsFunc(rules, func(r setup.NameRule) bool { return r.Lowercase }) {
		return strings.ToLower(name)
	}
	return name
}

// names holds a machine's name against the standard, the setup's rules and the
// other rows.
func (b *builder) names(w *Wanted, cell Origin, rules []setup.NameRule) {
	if err := machine.CheckLabel(w.Name); err != nil {
		b.bad("bad-hostname", cell, fmt.Sprintf("machine name %q: %s", w.Name, err), "use letters, digits and hyphens")
		w.duplicate = true // whatever else would be said of it follows from this
		return
	}
	id := strings.ToLower(w.Site + "/" + w.Name)
	if first, taken := b.taken[id]; taken {
		w.duplicate = true
		b.bad("duplicate-machine", cell, fmt.Sprintf("machine %s is already in %s", w.Name, first), "each machine has one row; letter case does not count")
		return
	}
	b.taken[id] = cell.At
	for _, r := range rules {
		b.naming(w, cell, r)
	}
	if b.setup.Templates[w.row.template].Guest == "windows" {
		b.windowsName(w, cell)
	}
}

func (b *builder) naming(w *Wanted, cell Origin, r setup.NameRule) {
	bad := func(message, hint string) { b.bad("bad-name", cell, message, hint) }
	if !strings.HasPrefix(w.Name, r.Prefix) {
		bad(fmt.Sprintf("machine name %q does not begin with %q", w.Name, r.Prefix), "the setup's naming asks for it: "+r.Prefix+w.Name)
	}
	if r.Longest > 0 && len(w.Name) > r.Longest {
		bad(fmt.Sprintf("machine name %q has %d characters, the setup's naming allows %d", w.Name, len(w.Name), r.Longest), "the longest possible is "+w.Name[:r.Longest])
	}
	if r.Pattern != "" && !b.pattern(r.Pattern).MatchString(w.Name) {
		bad(fmt.Sprintf("machine name %q does not match the setup's pattern %s", w.Name, r.Pattern), "")
	}
	if slices.ContainsFunc(r.Reserved, func(n string) bool { return strings.EqualFold(n, w.Name) }) {
		bad(fmt.Sprintf("machine name %q is reserved by the setup's naming", w.Name), "choose another")
	}
	if o := w.row.find("hostname"); r.Hostname == "follows" && o.Value != "" && !strings.EqualFold(o.Value, w.Name) {
		b.bad("bad-hostname", o, fmt.Sprintf("the setup's naming wants the host name to be the machine's, %s", strings.ToLower(w.Name)), "leave it empty")
	}
}

// pattern compiles a rule's pattern, for the whole name, once.
func (b *builder) pattern(text string) *regexp.Regexp {
	if p, ok := b.patterns[text]; ok {
		return p
	}
	p := regexp.MustCompile("^(?:" + text + ")$") // the setup was checked
	b.patterns[text] = p
	return p
}

// windowsName holds a computer name against what Windows allows, whatever the
// setup says: 15 characters (the NetBIOS name), and not digits alone.
func (b *builder) windowsName(w *Wanted, cell Origin) {
	name := w.Guest.Hostname
	if o := w.row.find("hostname"); o.Value != "" {
		cell = o
	}
	if len(name) > 15 {
		b.bad("bad-windows-name", cell, fmt.Sprintf("%q has %d characters; a Windows computer name has at most 15", name, len(name)), "the longest possible is "+name[:15])
	}
	if strings.Trim(name, "0123456789") == "" {
		b.bad("bad-windows-name", cell, fmt.Sprintf("%q is all digits, which no Windows computer name may be", name), "put a letter into it")
	}
}

// warn adds a warning.
func (b *builder) warn(code string, o Origin, message, hint string) {
	b.add(finding.Finding{Severity: finding.Warning, Code: code, At: o.At, Value: o.Value, Message: message, Hint: hint})
}
