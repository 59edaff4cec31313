package batch

import (
	"fmt"
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

// fullName is a host name with its domain, in lower case: not put together, it takes no memory of its own.
type fullName struct{ label, domain string }

func fullNameOf(hostname, domain string) fullName {
	label, rest, dotted := strings.Cut(hostname, ".")
	if dotted {
		domain = strings.TrimSuffix(rest+"."+domain, ".")
	}
	return fullName{strings.ToLower(label), strings.ToLower(domain)}
}

// names holds a machine's name against the standard, the setup's rules and the
// other rows.
func (b *builder) names(w *Wanted, r *row, cell Origin, rules []setup.NameRule) {
	if err := machine.CheckLabel(w.Name); err != nil {
		b.bad("bad-hostname", cell, fmt.Sprintf("machine name %q: %s", w.Name, err), "use letters, digits and hyphens")
		w.Misnamed = true // whatever else would be said of it follows from this
		return
	}
	id := machine.Key{Site: strings.ToLower(w.Site), Name: strings.ToLower(w.Name)}
	if first, taken := b.taken[id]; taken {
		w.Misnamed = true
		b.bad("duplicate-machine", cell, fmt.Sprintf("machine %s is already in %s", w.Name, first.row.written("machine").At), "remove one of the rows; letter case is ignored")
		return
	}
	b.taken[id] = w
	for _, rule := range rules {
		b.naming(w, r, cell, rule)
	}
	if w.row.guest() == setup.Windows {
		b.windowsName(w, r, cell)
	}
}

func (b *builder) naming(w *Wanted, r *row, cell Origin, rule setup.NameRule) {
	bad := func(message, hint string) { b.bad("bad-name", cell, message, hint) }
	if !strings.HasPrefix(w.Name, rule.Prefix) {
		bad(fmt.Sprintf("machine name %q does not begin with %q", w.Name, rule.Prefix), "use the prefix that the setup's naming requires: "+rule.Prefix+w.Name)
	}
	if rule.Longest > 0 && len(w.Name) > rule.Longest {
		bad(fmt.Sprintf("machine name %q has %d characters; the setup allows %d", w.Name, len(w.Name), rule.Longest), "shorten it, for example to "+w.Name[:rule.Longest])
	}
	if !rule.Pattern.Matches(w.Name) {
		bad(fmt.Sprintf("machine name %q does not match the setup's pattern %s", w.Name, rule.Pattern), "")
	}
	if slices.ContainsFunc(rule.Reserved, func(n string) bool { return strings.EqualFold(n, w.Name) }) {
		bad(fmt.Sprintf("machine name %q is reserved by the setup", w.Name), "choose another")
	}
	if name := r.text("hostname"); rule.Hostname == setup.SameHostname && name != "" && !strings.EqualFold(name, w.Name) {
		b.bad("bad-hostname", r.cell("hostname"), fmt.Sprintf("the setup requires the host name to be the machine name, %s", strings.ToLower(w.Name)), "leave it empty")
	}
}

// windowsName holds a computer name against what Windows allows, whatever the
// setup says: 15 characters (the NetBIOS name), and not digits alone.
func (b *builder) windowsName(w *Wanted, r *row, cell Origin) {
	name := w.Hostname
	if r.text("hostname") != "" {
		cell = r.cell("hostname")
	}
	if len(name) > 15 {
		b.bad("bad-windows-name", cell, fmt.Sprintf("%q has %d characters; a Windows computer name has at most 15", name, len(name)), "shorten it, for example to "+name[:15])
	}
	if strings.Trim(name, "0123456789") == "" {
		b.bad("bad-windows-name", cell, fmt.Sprintf("%q is all digits, which Windows does not allow as a computer name", name), "add a letter")
	}
}

// warn adds a warning.
func (b *builder) warn(code string, o Origin, message, hint string) {
	b.add(finding.Finding{Severity: finding.Warning, Code: code, At: o.At, Value: o.Value, Message: message, Hint: hint})
}
