package batch

import (
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/column"
	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/finding"
)

// enrol finds the systems around the machines of a row: those that its cell names, and those of its networks. The word none
// takes them all away.
func (b *builder) enrol(r *row) {
	all := r.spec.Enrol
	r.spec.Enrol = nil
	if len(all) == 1 && strings.EqualFold(all[0], none) {
		return
	}
	for _, word := range all {
		if !b.setup.HasSystem(word) {
			b.bad("unknown-system", r.cell("enrol"), fmt.Sprintf("unknown system %q", word), b.hint("system", word, b.setup.Systems))
		}
	}
	for n := range r.spec.Adapters {
		all = append(all, b.setup.Networks[r.text(column.ID("network", n+1))].Enrol...)
	}
	if len(all) > 0 {
		all = slices.Clone(all)
		slices.Sort(all)
		r.spec.Enrol = slices.Compact(all)
	}
}

// joins finds the Windows domain that the guests of a row join with their own accounts.
func (b *builder) joins(r *row) {
	g := &r.spec.Guest
	domains := b.setup.Domains(r.spec.Enrol)
	g.Joins = b.setup.Joins(domains)
	off := "write join: off in the directory if guests are not to join by themselves"
	switch kind := kinds.Of(*g); {
	case len(domains) > 1:
		b.bad("bad-enrol", r.cell("enrol"), fmt.Sprintf("a machine has its account in one Windows domain, not in several: %s", strings.Join(domains, ", ")), "name one of them")
	case g.Joins == "":
	case g.Firstboot != nil && g.Windows.Join.Domain != "":
		b.bad("bad-enrol", b.contentsAt(r), fmt.Sprintf("the guest would join %s with its own account, and %s with that of join_domain", g.Joins, g.Windows.Join.Domain), "remove join_domain, or "+off)
	case kind.Reads() && !kind.Joins:
		b.bad("bad-enrol", r.cell("enrol"), fmt.Sprintf("with the answers %s a guest cannot join %s", kind.Name, g.Joins), off)
	}
}

// aliases holds a machine's further names against those of others.
func (b *builder) aliases(w *Wanted, r *row) {
	for _, alias := range w.Common().Aliases {
		name := entry.AliasName(alias, w.Common().Guest.Domain)
		switch other, taken := b.aliased[name]; {
		case !strings.Contains(name, ".") || strings.HasSuffix(name, "."):
			b.bad("bad-aliases", r.cell("aliases"), fmt.Sprintf("alias %s: the machine has no domain", alias), "fill in the domain column, or write the alias with its domain")
		case taken:
			b.bad("duplicate-alias", r.cell("aliases"), fmt.Sprintf("alias %s is already in %s", name, other.Origin("aliases").At), "an alias stands for one machine; with a range, include {number}")
		}
		b.aliased[name] = w
	}
}

// entered refuses names that two machines would have in the same DNS server or Windows domain, and those that are too long for one.
func (b *builder) entered() {
	first := map[string]*Wanted{}
	for _, w := range b.wanted {
		for _, system := range w.Common().Enrol {
			name := b.nameIn(system, w)
			if name == "" || w.Misnamed {
				continue
			}
			if b.setup.Directory[system].IsDomain() && len(w.Hostname) > entry.LongestAccount {
				b.touched = []string{w.Name}
				b.bad("bad-enrol", Origin{Value: w.Hostname, At: w.hostnameAt()}, fmt.Sprintf("the host name %s has more than %d characters, which a computer account must not have", w.Hostname, entry.LongestAccount), "write a shorter name in the column hostname, or enrol: none")
				break
			}
			name = system + " " + name
			if other, taken := first[name]; taken {
				b.touched = []string{w.Name}
				b.add(finding.Finding{Code: "duplicate-hostname", At: w.hostnameAt(), Value: w.Hostname, Message: fmt.Sprintf("host name %s is already entered in %s for %s", b.nameIn(system, w), system, other.Key),
					Hint: "choose another name, or write enrol: none in one of the rows"})
				break
			}
			first[name] = w
		}
		for _, alias := range w.Common().Aliases {
			if host, taken := b.hostnames[fullNameOf(entry.AliasName(alias, w.Common().Guest.Domain), "")]; taken {
				b.touched = []string{w.Name}
				b.bad("duplicate-alias", w.Origin("aliases"), fmt.Sprintf("alias %s is the name of machine %s", alias, host.Name), "choose another one")
			}
		}
	}
}

// nameIn is the name that a machine is entered under in a system, if two machines must not have the same one there.
func (b *builder) nameIn(system string, w *Wanted) string {
	if _, is := b.setup.DNS[system]; is && w.Common().Guest.Domain != "" {
		return strings.ToLower(w.FQDN())
	}
	if b.setup.Directory[system].IsDomain() {
		return strings.ToLower(w.Hostname)
	}
	return ""
}
