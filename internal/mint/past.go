package mint

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/ledger"
)

// foreign is what machines that are not ours have, as their sites tell.
type foreign struct {
	addresses []address.Reservation
	macs      map[string]string
}

// pastOf gathers what addresses and MAC addresses are given out in view of.
func pastOf(ctx context.Context, l *ledger.Ledger, known []ledger.Machine, others *foreign) (batch.Past, error) {
	held, err := l.Reservations(ctx)
	if err != nil {
		return batch.Past{}, err
	}
	past := batch.Past{Ledger: l.ID, Held: held, MACs: map[machine.Key][]string{}, Now: time.Now()}
	for _, k := range known {
		for _, a := range k.Spec.Adapters {
			past.MACs[k.Key] = append(past.MACs[k.Key], a.MAC)
		}
	}
	if others != nil {
		// What the ledger says of an address counts for more.
		past.Held = append(append([]address.Reservation{}, others.addresses...), held...)
		past.Foreign = others.macs
	}
	return past, nil
}

// foreign looks at the machines of surveys that are not this ledger's.
func (s *Session) foreign(surveys map[string]*survey.Survey) *foreign {
	networks := s.Setup.AddressNetworks()
	found := &foreign{macs: map[string]string{}}
	for site, answer := range surveys {
		for _, m := range answer.Machines {
			if m.Mark != nil && m.Mark.Ledger == s.Ledger.ID || m.Report == nil {
				continue
			}
			whose := fmt.Sprintf("machine %s at site %s, which is not ours", m.Name, site)
			for mac, addresses := range m.Report.Addresses {
				found.macs[mac] = whose
				for _, text := range addresses {
					if p, err := netip.ParsePrefix(text); err == nil {
						found.addresses = append(found.addresses, seenAt(site, m.Name, p.Addr(), networks)...)
					}
				}
			}
		}
	}
	return found
}

// seenAt is the reservation of an address that a machine which is not ours has,
// in each network that it may be of.
func seenAt(site, name string, a netip.Addr, networks map[string]address.Network) []address.Reservation {
	var all []address.Reservation
	for _, network := range setup.Names(networks) {
		if networks[network].Check(a) == nil {
			all = append(all, address.Reservation{Holder: address.Holder{Site: site}, Network: network, Addr: a, Standing: address.Seen, Note: name})
		}
	}
	return all
}
