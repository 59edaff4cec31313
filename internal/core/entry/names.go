package entry

import (
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/zone"
)

// Names says what of machines is entered in a DNS server.
type Names struct {
	System string
	// Covers reports whether addresses of a network are entered; nil means all.
	Covers func(network string) bool
	// Reverse enters the names of the addresses, too.
	Reverse bool
	// Fingerprints enters those of SSH host keys (SSHFP, RFC 4255).
	Fingerprints bool
}

// Of is what is to stand in the server for a machine: its name with its addresses and the fingerprint of its host key, its
// aliases, and the names of its addresses. A machine without a domain, or without an address that stays its own, has nothing.
func (n Names) Of(m *machine.Machine, hostKey string) []Item {
	addresses := n.addresses(m)
	if m.Guest.Domain == "" || len(addresses) == 0 {
		return nil
	}
	name := strings.ToLower(m.Guest.FQDN())
	own := Item{System: n.System, Name: name}
	for _, a := range addresses {
		own.Values = append(own.Values, record(a))
	}
	if print := zone.Fingerprint(hostKey); n.Fingerprints && print != "" {
		own.Values = append(own.Values, "SSHFP "+print)
	}
	all := []Item{own}
	for _, alias := range m.Aliases {
		all = append(all, Item{System: n.System, Name: AliasName(alias, m.Guest.Domain), Values: []string{"CNAME " + name}})
	}
	if !n.Reverse {
		return all
	}
	for _, a := range addresses {
		all = append(all, Item{System: n.System, Name: ReverseName(a), Values: []string{"PTR " + name}})
	}
	return all
}

// ReverseName is the name under which the name of an address stands (RFC 1035, section 3.5; RFC 3596, section 2.5).
func ReverseName(a netip.Addr) string {
	name, _ := dns.ReverseAddr(a.String()) // it is one
	return strings.TrimSuffix(name, ".")
}

// IsFingerprint reports whether a value is that of a host key.
func IsFingerprint(value string) bool { return strings.HasPrefix(value, "SSHFP ") }

// KeepFingerprints adds to what is wanted for a machine whose host key is not known the fingerprints that were entered.
func KeepFingerprints(want []Item, had Entered, hostKey string) []Item {
	if hostKey != "" {
		return want
	}
	for i, w := range want {
		at := Find(had.Items, w)
		if at < 0 {
			continue
		}
		for _, v := range had.Items[at].Values {
			if IsFingerprint(v) && !slices.Contains(w.Values, v) {
				want[i].Values = append(want[i].Values, v)
			}
		}
	}
	return want
}

// AliasName is the whole name of an alias: one without a dot is in the machine's domain.
func AliasName(alias, domain string) string {
	if strings.Contains(alias, ".") {
		return strings.ToLower(alias)
	}
	return strings.ToLower(alias + "." + domain)
}

func (n Names) addresses(m *machine.Machine) (all []netip.Addr) {
	for _, a := range m.Adapters {
		if n.Covers != nil && !n.Covers(a.Network) {
			continue
		}
		for _, p := range a.Given() {
			if !slices.Contains(all, p.Addr()) {
				all = append(all, p.Addr())
			}
		}
	}
	return all
}

func record(a netip.Addr) string {
	if a.Is4() {
		return "A " + a.String()
	}
	return "AAAA " + a.String()
}
