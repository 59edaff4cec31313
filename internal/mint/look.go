package mint

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/sheet"
	"mintbatch/internal/ledger"
	"mintbatch/internal/look"
)

// taking is an address with the machine that takes it.
type taking struct {
	machine.Key
	network string
	addr    netip.Addr
}

func takingOf(r ledger.Reservation) taking {
	return taking{machine.Key{Site: r.Site, Name: r.Machine}, r.Network, r.Addr}
}

// Looked is what came of asking about the new addresses of a network.
type Looked struct {
	Network   string        `json:"network"`
	Ways      []address.Way `json:"ways"`
	Addresses int           `json:"addresses"`
	Seen      []look.Seen   `json:"seen"`
}

// Look asks about every address that the work would give to a machine which
// has not had it, in the networks whose setup wants that. An address at which
// something answers is refused at its cell; a name that DNS has for one is a
// warning, unless it is the machine's own.
func (s *Session) Look(ctx context.Context, p proof.Proof) ([]Looked, error) {
	asked := s.newOf(p)
	if len(asked) == 0 {
		return nil, nil
	}
	wanted := map[machine.Key]*batch.Wanted{}
	for _, w := range s.Wanted {
		wanted[w.Key] = w
	}
	var all []Looked
	found := finding.List{}
	for _, network := range slices.Sorted(maps.Keys(asked)) {
		one, err := s.lookAt(ctx, network, asked[network])
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			s.Warnings.Add(finding.Finding{Severity: finding.Warning, Code: "cannot-look", At: s.Setup.Where("networks", network, "look"), Message: fmt.Sprintf("network %s: %s", network, err)})
		}
		all = append(all, one)
		takes := map[netip.Addr]ledger.Reservation{}
		for _, r := range asked[network] {
			takes[r.Addr] = r
		}
		for _, seen := range one.Seen {
			r := takes[seen.Addr]
			if f, tell := tellSeen(seen, r, wanted[machine.Key{Site: r.Site, Name: r.Machine}]); tell {
				found.Add(f)
			}
		}
	}
	if found.Failed() {
		return all, &Refused{append(s.Warnings, found...).Sorted()}
	}
	s.Warnings = append(s.Warnings, found...).Sorted()
	return all, nil
}

// newOf lists the addresses, by network, that the work would give to machines
// which have not had them, as far as the setup wants to look at them.
func (s *Session) newOf(p proof.Proof) map[string][]ledger.Reservation {
	gives := map[taking]ledger.Reservation{}
	for _, w := range p.Works {
		if w.Word != proof.New && w.Word != proof.Remake {
			continue
		}
		for _, r := range s.reserved[w.Key] {
			if len(s.Setup.Networks[r.Network].Look) > 0 {
				gives[takingOf(r)] = r
			}
		}
	}
	if len(gives) == 0 {
		return nil
	}
	for _, r := range s.held {
		if r.Standing == address.InUse {
			delete(gives, takingOf(r))
		}
	}
	asked := map[string][]ledger.Reservation{}
	for _, w := range p.Works {
		for _, r := range s.reserved[w.Key] {
			if _, new := gives[takingOf(r)]; new {
				asked[r.Network] = append(asked[r.Network], r)
			}
		}
	}
	return asked
}

// lookAt asks about addresses of one network.
func (s *Session) lookAt(ctx context.Context, network string, taken []ledger.Reservation) (Looked, error) {
	n := s.Setup.Networks[network]
	ways, err := address.ParseWays(n.Look)
	if err != nil {
		return Looked{}, err
	}
	var servers []netip.AddrPort
	for _, d := range n.DNS {
		servers = append(servers, netip.AddrPortFrom(d, 53))
	}
	addrs := make([]netip.Addr, len(taken))
	for i, r := range taken {
		addrs[i] = r.Addr
	}
	seen, err := look.At(ctx, addrs, look.Options{Ways: ways, Servers: servers})
	return Looked{network, ways, len(addrs), append([]look.Seen{}, seen...)}, err
}

// tellSeen is the finding for what was seen of a machine's address, if any.
func tellSeen(seen look.Seen, r ledger.Reservation, w *batch.Wanted) (f finding.Finding, tell bool) {
	f = finding.Finding{At: w.Origin(sheet.ColumnID("address", r.Adapter)).At, Value: r.Addr.String(), Code: "address-answers", Hint: "look at who has it, and name another"}
	if r.Pool != "" {
		f.Hint = "look at who has it; `mintbatch pool hold " + r.Addr.String() + "` keeps the pool from giving it out"
	}
	switch seen.Way {
	case address.InDNS:
		if strings.EqualFold(seen.Detail, w.Guest.FQDN()) {
			return f, false
		}
		f.Severity, f.Code = finding.Warning, "address-named"
		f.Message = fmt.Sprintf("address %s, which %s is to get, is %s in DNS", r.Addr, r.Machine, seen.Detail)
		f.Hint = "look at whose it is; DNS may be out of date"
	case address.Echo:
		f.Message = fmt.Sprintf("address %s, which %s is to get, answers to an echo", r.Addr, r.Machine)
	case address.Neighbour:
		f.Message = fmt.Sprintf("address %s, which %s is to get, is that of a neighbour with the MAC address %s", r.Addr, r.Machine, seen.Detail)
	}
	return f, true
}
