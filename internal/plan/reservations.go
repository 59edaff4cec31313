package plan

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/assign"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/lookup"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/ledger"
	"mintbatch/internal/sites"
)

// foreign is what machines have that this ledger does not know, as their sites
// tell: others' machines, and our own of which the ledger has lost its word.
type foreign struct {
	addresses []address.Reservation
	macs      map[string]string
	own       map[machine.Key][]string // MAC addresses of machines with our mark
}

// Past gathers what addresses and MAC addresses are given out in view of.
func Past(ctx context.Context, l *ledger.Ledger, known []ledger.Machine, others *foreign) (assign.Past, error) {
	held, err := l.Reservations(ctx)
	if err != nil {
		return assign.Past{}, err
	}
	past := assign.Past{Ledger: l.ID, Held: held, Now: time.Now()}
	var lost map[machine.Key][]string
	if others != nil {
		// What the ledger says of an address counts for more.
		if len(others.addresses) > 0 {
			past.Held = slices.Concat(others.addresses, held)
		}
		past.Foreign, lost = others.macs, others.own
	}
	find := finder(known)
	past.MACs = func(key machine.Key) []string {
		if k := find(key); k != nil {
			return macs(k)
		}
		return lost[key]
	}
	past.Owners = func() map[string]machine.Key {
		owners := make(map[string]machine.Key, len(known))
		for key, own := range lost {
			for _, mac := range own {
				owners[mac] = key
			}
		}
		for i := range known {
			for _, mac := range macs(&known[i]) {
				owners[mac] = known[i].Key
			}
		}
		return owners
	}
	return past, nil
}

// finder finds machines of the ledger, one goroutine at a time; nil is one that it does not have.
func finder(known []ledger.Machine) func(machine.Key) *ledger.Machine {
	at := lookup.New(len(known), func(i int) machine.Key { return known[i].Key }, machine.Key.Compare)
	return func(key machine.Key) *ledger.Machine {
		if i, is := at.Find(key); is {
			return &known[i]
		}
		return nil
	}
}

// macs are the MAC addresses of a machine, by adapter from the first.
func macs(k *ledger.Machine) []string {
	own := make([]string, len(k.Adapters))
	for i, a := range k.Adapters {
		own[i] = a.MAC
	}
	return own
}

// foreign looks at the machines of surveys that are not those which the ledger
// knows, whoever's mark they carry.
func (p *Planner) foreign(known []ledger.Machine, all ...sites.Surveys) *foreign {
	found := &foreign{macs: map[string]string{}, own: map[machine.Key][]string{}}
	if !slices.ContainsFunc(all, func(s sites.Surveys) bool { return len(s) > 0 }) {
		return found
	}
	ours := map[uuid.UUID]bool{}
	for _, k := range known {
		for generation := 1; generation <= k.Generation; generation++ {
			ours[machine.Identity(p.Ledger.ID, k.Key, generation)] = true
		}
		ours[k.ID(p.Ledger.ID)], ours[k.EarlierID(p.Ledger.ID)] = true, true
	}
	for _, answers := range all {
		for site, answer := range answers {
			for _, m := range answer.Machines {
				if !ours[m.ID] {
					found.add(p.Ledger.ID, site, m, p.Setup)
				}
			}
		}
	}
	return found
}

// add takes in what a machine reports, what its site says of its adapters, and
// what its mark says that it was made to: it may be off, and say nothing itself.
func (f *foreign) add(own uuid.UUID, site string, m contract.Machine, s *setup.Setup) {
	// One with the name of a machine of the sheet is reported as that, and not by its
	// addresses.
	holder := address.Holder{Site: site, Machine: m.Name}
	whose := fmt.Sprintf("machine %s at site %s, which belongs to no ledger", m.Name, site)
	isOwn := m.Mark != nil && m.Mark.Ledger == own
	if isOwn {
		whose = fmt.Sprintf("machine %s at site %s, which this ledger does not know", m.Name, site)
	}
	macs, addresses := map[string]bool{}, map[netip.Addr]int{}
	for _, a := range m.Adapters {
		macs[strings.ToLower(a.MAC)] = true
	}
	if m.Report != nil {
		for mac, texts := range m.Report.Addresses {
			macs[mac] = true
			for _, text := range texts {
				if p, err := netip.ParsePrefix(text); err == nil {
					addresses[p.Addr()] = 0
				}
			}
		}
	}
	if m.Mark != nil && m.Mark.Spec != nil {
		for i, a := range m.Mark.Spec.Adapters {
			if m.Mark.Ledger != uuid.Nil { // a copy has cards of its own
				macs[a.MAC] = true
			}
			for _, p := range a.Given() {
				addresses[p.Addr()] = i + 1
			}
			if isOwn {
				key := machine.Key{Site: site, Name: m.Name}
				f.own[key] = append(f.own[key], a.MAC)
			}
		}
	}
	if !isOwn {
		for mac := range macs {
			f.macs[mac] = whose
		}
	}
	for a, adapter := range addresses {
		holder.Adapter = adapter
		f.addresses = append(f.addresses, seenAt(holder, m.Name, a, s)...)
	}
}

// seenAt is the reservation of an address that a machine which the ledger does not
// know has, in each network that it may be of.
func seenAt(holder address.Holder, name string, a netip.Addr, s *setup.Setup) []address.Reservation {
	var all []address.Reservation
	for _, network := range s.NetworksAt(a) {
		if s.AddressNetworks()[network].Check(a) == nil {
			all = append(all, address.Reservation{Holder: holder, Network: network, Addr: a, Standing: address.Seen, Note: name})
		}
	}
	return all
}
