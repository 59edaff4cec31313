package mint

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/ledger"
)

// Rebuilt is a machine that was put back into the ledger.
type Rebuilt struct {
	machine.Key
	// Whole tells whether all that the machine was made to is known. If not,
	// the next proof will find it different from its row.
	Whole bool `json:"whole"`
}

// Rebuild puts the machines that carry this ledger's mark, and that it does not
// know, back into it. An empty ledger first takes the id of the one that was
// lost: the only one that the sites know, or the one named. Sealed values are
// lost with a ledger; they are at no site.
func (s *Session) Rebuild(ctx context.Context, id uuid.UUID) ([]Rebuilt, error) {
	surveys, err := s.askAll(ctx, s.everySite())
	if err != nil {
		return nil, err // a site left out would be a ledger that is wrong
	}
	for name, answer := range surveys {
		if down := answer.Down(); len(down) > 0 {
			return nil, fmt.Errorf("site %s: the machines on its hosts that are down would be missed: %s", name, strings.Join(down, ", "))
		}
	}
	known, err := s.Ledger.Machines(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.adopt(ctx, id, surveys, known); err != nil {
		return nil, err
	}
	run, err := s.startRun(ctx, "ledger rebuild", nil, nil)
	if err != nil {
		return nil, err
	}
	has := map[machine.Key]bool{}
	for _, k := range known {
		has[k.Key] = true
	}
	var all []Rebuilt
	for _, site := range slices.Sorted(maps.Keys(surveys)) {
		for _, m := range newest(surveys[site].Machines, s.Ledger.ID) {
			key := machine.Key{Site: site, Name: m.Name}
			if has[key] || m.Mark.Key != key.String() {
				continue
			}
			whole, err := s.restore(ctx, run.ID, key, m)
			if err != nil {
				return all, err
			}
			all = append(all, Rebuilt{key, whole})
		}
	}
	return all, s.Ledger.EndRun(context.WithoutCancel(ctx), run.ID, "done")
}

// newest lists a ledger's machines, of each only its last generation.
func newest(all []survey.Machine, id uuid.UUID) []survey.Machine {
	last := map[string]survey.Machine{}
	for _, m := range all {
		if m.Mark != nil && m.Mark.Ledger == id && m.Mark.Generation >= generation(last[m.Name]) {
			last[m.Name] = m
		}
	}
	var found []survey.Machine
	for _, name := range slices.Sorted(maps.Keys(last)) {
		found = append(found, last[name])
	}
	return found
}

func generation(m survey.Machine) int {
	if m.Mark == nil {
		return 0
	}
	return m.Mark.Generation
}

// adopt finds out whose machines the sites have, and lets an empty ledger be
// that one.
func (s *Session) adopt(ctx context.Context, id uuid.UUID, surveys map[string]*survey.Survey, known []ledger.Machine) error {
	counts := map[uuid.UUID]int{}
	for _, answer := range surveys {
		for _, m := range answer.Machines {
			if m.Mark != nil {
				counts[m.Mark.Ledger]++
			}
		}
	}
	if counts[s.Ledger.ID] > 0 && (id == uuid.Nil || id == s.Ledger.ID) || len(known) > 0 && id == uuid.Nil {
		return nil
	}
	if id == uuid.Nil {
		var words []string
		for other, n := range counts {
			id = other
			words = append(words, fmt.Sprintf("%s (%d machines)", other, n))
		}
		slices.Sort(words)
		switch len(counts) {
		case 0:
			return errors.New("the sites have no machine that carries the mark of a ledger")
		case 1:
		default:
			return fmt.Errorf("the sites have machines of several ledgers: %s; name one with --id", strings.Join(words, ", "))
		}
	}
	if id == s.Ledger.ID {
		return nil
	}
	if counts[id] == 0 {
		return fmt.Errorf("the sites have no machine of ledger %s", id)
	}
	if err := s.Ledger.Adopt(ctx, id); err != nil {
		if errors.Is(err, ledger.ErrNotEmpty) {
			return fmt.Errorf("%w and is not ledger %s: name a new file under ledger: in the setup", err, id)
		}
		return err
	}
	return nil
}

// restore puts one machine back, made to what its mark says.
func (s *Session) restore(ctx context.Context, runID string, key machine.Key, m survey.Machine) (whole bool, err error) {
	restored := ledger.Machine{Known: proof.Known{Key: key, Generation: m.Mark.Generation}, Host: m.Host, Store: m.Store}
	if m.Mark.Spec != nil {
		restored.Spec, whole = *m.Mark.Spec, true
		if !restored.Spec.Guest.Firstboot.IsZero() {
			whole = s.contents(key, &restored.Spec)
		}
	}
	return whole, s.Ledger.Restore(ctx, runID, restored, reservationsOf(key, restored.Spec, s.Setup))
}

// contents puts the first-boot contents of the sheet's machine in the place of
// their digest, if they are the same.
func (s *Session) contents(key machine.Key, spec *machine.Spec) bool {
	for _, w := range s.Wanted {
		if w.Key == key && w.Guest.ContentsDigest() == spec.Guest.Commands[0] {
			spec.Guest.Firstboot, spec.Guest.Own = w.Guest.Firstboot, w.Guest.Own
			return true
		}
	}
	return false
}

// reservationsOf lists the addresses that a machine was made with, and the pools
// that they are of.
func reservationsOf(key machine.Key, spec machine.Spec, from *setup.Setup) []ledger.Reservation {
	networks := from.AddressNetworks()
	var all []ledger.Reservation
	for i, a := range spec.Adapters {
		for _, name := range setup.Names(networks) {
			if from.NetworkSource(name) != a.Network {
				continue
			}
			own := a.Addresses
			if a.Lease.IsValid() {
				own = append(slices.Clone(own), a.Lease)
			}
			for _, p := range own {
				r := ledger.Reservation{Network: name, Addr: p.Addr(), Pool: networks[name].PoolOf(p.Addr())}
				r.Site, r.Machine, r.Adapter = key.Site, key.Name, i+1
				all = append(all, r)
			}
			break
		}
	}
	return all
}
