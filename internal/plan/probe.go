package plan

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/column"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
	"mintbatch/internal/probe"
)

// claimed is an address with the machine that takes it.
type claimed struct {
	machine.Key
	network string
	addr    netip.Addr
}

func takingOf(r ledger.Reservation) claimed {
	return claimed{machine.Key{Site: r.Site, Name: r.Machine}, r.Network, r.Addr}
}

// Probed is what probing the new addresses of a network found.
type Probed struct {
	Network   string          `json:"network"`
	Probes    []address.Probe `json:"probes"`
	Addresses int             `json:"addresses"`
	Answers   []probe.Answer  `json:"answers"`
}

// Probe probes every address that the work would give to a machine which
// has not had it, in the networks whose setup wants that. An address at which
// something answers is refused at its cell; a name that DNS has for one is a
// warning, unless it is the machine's own.
func (p *Plan) Probe(ctx context.Context) ([]Probed, error) {
	asked := p.newOf()
	if len(asked) == 0 {
		return nil, nil
	}
	wanted := p.batch.ByKey()
	var all []Probed
	found := finding.List{}
	for _, network := range slices.Sorted(maps.Keys(asked)) {
		one, err := p.probeAll(ctx, network, asked[network])
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			p.Warnings.Add(finding.Finding{Severity: finding.Warning, Code: "cannot-probe", At: p.batch.Setup.Where("networks", network, "probe"), Message: fmt.Sprintf("network %s: %s", network, err)})
		}
		all = append(all, one)
		takes := map[netip.Addr]ledger.Reservation{}
		for _, r := range asked[network] {
			takes[r.Addr] = r
		}
		for _, seen := range one.Answers {
			r := takes[seen.Addr]
			if f, tell := inUse(seen, r, wanted[machine.Key{Site: r.Site, Name: r.Machine}]); tell {
				found.Add(f)
			}
		}
	}
	if found.Failed() {
		return all, &input.Refused{Findings: append(p.Warnings, found...).Sorted()}
	}
	p.Warnings = append(p.Warnings, found...).Sorted()
	return all, nil
}

// newOf lists the addresses, by network, that the work would give to machines
// which have not had them, as far as the setup wants them probed.
func (p *Plan) newOf() map[string][]ledger.Reservation {
	gives := map[claimed]ledger.Reservation{}
	for _, w := range p.Works {
		if w.Word != proof.New && w.Word != proof.Remake {
			continue
		}
		for _, r := range p.Reserved()[w.Key] {
			if len(p.batch.Setup.Networks[r.Network].Probe) > 0 {
				gives[takingOf(r)] = r
			}
		}
	}
	if len(gives) == 0 {
		return nil
	}
	for _, r := range p.held {
		if r.Standing == address.InUse {
			delete(gives, takingOf(r))
		}
	}
	asked := map[string][]ledger.Reservation{}
	for _, w := range p.Works {
		for _, r := range p.Reserved()[w.Key] {
			if _, new := gives[takingOf(r)]; new {
				asked[r.Network] = append(asked[r.Network], r)
			}
		}
	}
	return asked
}

// probeAll probes addresses of one network.
func (p *Plan) probeAll(ctx context.Context, network string, taken []ledger.Reservation) (Probed, error) {
	n := p.batch.Setup.Networks[network]
	var servers []netip.AddrPort
	for _, d := range n.DNS {
		servers = append(servers, netip.AddrPortFrom(d, 53))
	}
	addrs := make([]netip.Addr, len(taken))
	for i, r := range taken {
		addrs[i] = r.Addr
	}
	seen, err := probe.Addresses(ctx, addrs, probe.Options{Probes: n.Probe, Servers: servers})
	return Probed{network, n.Probe, len(addrs), append([]probe.Answer{}, seen...)}, err
}

// inUse is the finding for what was seen of a machine's address, if any.
func inUse(answer probe.Answer, r ledger.Reservation, w *batch.Wanted) (f finding.Finding, tell bool) {
	f = finding.Finding{At: w.Origin(column.ID("address", r.Adapter)).At, Value: r.Addr.String(), Code: "address-answers", Hint: "check who has it, and name another address"}
	if r.Pool != "" {
		f.Hint = "check who has it; `mintbatch pool hold " + r.Addr.String() + "` excludes it from the pool"
	}
	switch answer.Probe {
	case address.DNS:
		if strings.EqualFold(answer.Detail, w.FQDN()) {
			return f, false
		}
		f.Severity, f.Code = finding.Warning, "address-named"
		f.Message = fmt.Sprintf("address %s for %s is registered in DNS as %s", r.Addr, r.Machine, answer.Detail)
		f.Hint = "check who uses it; the DNS entry may be out of date"
	case address.Ping:
		f.Message = fmt.Sprintf("address %s for %s answers to ping", r.Addr, r.Machine)
	case address.ARP:
		f.Message = fmt.Sprintf("address %s for %s is in use by MAC address %s on the network", r.Addr, r.Machine, answer.Detail)
	}
	return f, true
}
