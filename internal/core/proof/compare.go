package proof

import (
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
)

// State is how far the ledger knows a machine to be.
type State string

// The states of a Known machine.
const (
	Making State = "making" // a run began it and has not finished it
	Made   State = "made"
)

// Known is what the ledger holds of a machine.
type Known struct {
	machine.Key
	Generation int
	State      State
	Cloned     bool // its clone was done
	Started    bool // its start was begun: it may hold something by now
	Spec       machine.Spec
}

// Seen is a machine as a site has it.
type Seen struct {
	Identity uuid.UUID
	Name     string
	// Ledger is the id of the ledger that made it; zero if no ledger did.
	Ledger     uuid.UUID
	Generation int
	// Power and Shape are how it is now; empty where that is not told.
	Power machine.Power
	Shape machine.Shape
	// Adapters have what a site knows of them: network, MAC address, and whether
	// they are plugged in. They are nil where that is not told.
	Adapters []machine.Adapter
	Mark     machine.Mark
}

// Situation is all that a proof is computed from.
type Situation struct {
	Ledger uuid.UUID
	Wanted []*machine.Machine
	Known  []*Known
	// Seen holds the machines of each site that was asked. A site that was
	// not asked is taken to have what the ledger says.
	Seen map[string][]Seen
	// Spent are the last generations of machines that were retired and whose
	// disks, which bear their identity, were kept.
	Spent map[machine.Key]int
	// Hidden are machines on hosts that are down: the ledger is believed.
	Hidden map[machine.Key]bool
}

// unknownClone is said of a machine that is ours and that the ledger has no
// word of: it writes down what it begins before it begins it.
const unknownClone = "the site has a clone of this machine that this ledger does not know; was the ledger restored from a copy?"

// Compare computes the work. Only the machines for which keep tells true are
// considered; a nil keep means all.
func Compare(s Situation, keep func(name string) bool) Proof {
	c := comparer{Situation: s, known: make(map[machine.Key]*Known, len(s.Known)), sites: map[string]siteView{}}
	for _, k := range s.Known {
		c.known[k.Key] = k
	}
	for site, seen := range s.Seen {
		v := siteView{byName: map[string]Seen{}, byIdentity: map[uuid.UUID]Seen{}}
		for _, m := range seen {
			v.byName[strings.ToLower(m.Name)] = m
			v.byIdentity[m.Identity] = m
		}
		c.sites[site] = v
	}
	p := Proof{Works: make([]Work, 0, len(s.Wanted))}
	wanted := make(map[machine.Key]bool, len(s.Wanted))
	for _, m := range s.Wanted {
		wanted[m.Key] = true
		if keep(m.Name) {
			p.Works = append(p.Works, c.work(m))
		}
	}
	for _, k := range s.Known {
		if !wanted[k.Key] && keep(k.Name) {
			p.Works = append(p.Works, c.stray(k))
		}
	}
	return p
}

type siteView struct {
	byName     map[string]Seen
	byIdentity map[uuid.UUID]Seen
}

type comparer struct {
	Situation
	known map[machine.Key]*Known
	sites map[string]siteView
}

func (c comparer) work(m *machine.Machine) Work {
	known, isKnown := c.known[m.Key]
	if !isKnown {
		known = &Known{Key: m.Key, Generation: c.Spent[m.Key] + 1, State: Making, Spec: m.Spec}
	}
	w := Work{Key: m.Key, Machine: m, Word: New, Generation: known.Generation}
	w.Identity = machine.Identity(c.Ledger, m.Key, w.Generation)
	site, asked := c.sites[m.Site]
	named, nameThere := site.byName[strings.ToLower(m.Name)]
	here, there := site.byIdentity[w.Identity]
	if there && !isKnown {
		return w.as(Taken, unknownClone)
	}
	hidden := c.Hidden[m.Key] && !there
	there = there || isKnown && (!asked || hidden)

	if nameThere && named.Identity != w.Identity {
		switch {
		case named.Ledger != c.Ledger:
			return w.as(Taken, "the site has a machine of this name that this ledger did not make")
		case named.Generation > w.Generation || known.State == Made:
			return w.as(Taken, unknownClone)
		}
		w.Replaces = named.Identity // an earlier clone that was already given up
	}
	if there && asked && !hidden && here.Ledger != c.Ledger {
		return w.as(Taken, "the site has a machine of this identity without this ledger's mark")
	}
	if isKnown {
		m = withLater(m, known)
		w.Machine = m
	}
	changes := differences(known.Spec, m.Spec)
	switch {
	case !isKnown:
		return w
	case known.State == Making:
		w.Begun = true
		w.Reasons = append(w.Reasons, Reason{Text: "begun by an earlier run and not finished"})
		switch {
		case known.Cloned && !there:
			w = w.again(c.Ledger, false)
		case changesClone(changes), known.Started && (cloneAgain(changes) || addsLater(changes)):
			// Also where nothing is seen: the site may still be cloning what
			// was asked before.
			w = w.again(c.Ledger, true)
			if known.Started {
				w.Word = Remake
			}
		}
		w.Reasons = append(w.Reasons, changes.reasons()...)
		return w
	case !there:
		w = w.again(c.Ledger, false)
		return w.as(New, "it is gone from the site")
	case len(changes) == 0:
		w.Word, w.Power = Same, here.Power
		if asked && !hidden {
			w.Drift = drift(known.Spec, here)
		}
		return w
	case cloneAgain(changes):
		w = w.again(c.Ledger, true)
		w.Word = Remake
	default:
		w.Word, w.Power = Adjust, here.Power
		if asked && !hidden {
			// What is as it is to be from now on, an earlier run has done.
			still := drift(m.Spec, here)
			w.Drift = slices.DeleteFunc(drift(known.Spec, here), func(r Reason) bool {
				return slices.ContainsFunc(changes, func(c change) bool { return c.Field == r.Field }) ||
					!slices.ContainsFunc(still, func(s Reason) bool { return s.Field == r.Field })
			})
		}
	}
	w.Reasons = changes.reasons()
	if w.Word == Remake {
		for i := range w.Reasons {
			w.Reasons[i].Untold = false // another guest is told of all
		}
		w.Reasons = append(w.Reasons, loses(known.Spec))
	}
	w.restarts()
	return w
}

// withLater is what is wanted of a machine with what is known of its adapters:
// those that came, or now come, after its first boot.
func withLater(m *machine.Machine, known *Known) *machine.Machine {
	later := func(i int) bool {
		if i < len(known.Spec.Adapters) {
			return known.Spec.Adapters[i].Later
		}
		return known.State == Made
	}
	for i := range m.Adapters {
		if later(i) {
			return toldOf(m, i)
		}
	}
	return m
}

// toldOf is a machine whose guest was told of its first n adapters.
func toldOf(m *machine.Machine, n int) *machine.Machine {
	copied := *m
	copied.Adapters = slices.Clone(m.Adapters)
	for i := range copied.Adapters {
		copied.Adapters[i].Later = i >= n
	}
	return &copied
}

// again makes the work that of the next generation; there tells whether the
// present one is at the site and has to go first.
func (w Work) again(ledger uuid.UUID, there bool) Work {
	if there {
		w.Replaces = w.Identity
	}
	w.Generation++
	w.Identity = machine.Identity(ledger, w.Key, w.Generation)
	if w.Machine != nil && len(machine.Told(w.Machine.Adapters)) < len(w.Machine.Adapters) {
		w.Machine = toldOf(w.Machine, len(w.Machine.Adapters)) // another guest is told of all
	}
	return w
}

// Remade turns the work on every machine that is there into a remake, as
// somebody has asked for by its name. What is not there or not ours stays what
// it is.
func (p Proof) Remade(ledger uuid.UUID) Proof {
	works := make([]Work, len(p.Works))
	for i, w := range p.Works {
		if w.Word == Same || w.Word == Adjust {
			w = w.again(ledger, true).as(Remake, "asked for")
			w.Reasons = append(w.Reasons, loses(w.Machine.Spec))
		}
		works[i] = w
	}
	return Proof{works}
}

// loses tells what goes with a clone that is made again.
func loses(made machine.Spec) Reason {
	text := "what its disk"
	if made.Shape.Disk > 0 {
		text += " of " + made.Shape.Disk.String()
	}
	switch n := len(made.Shape.Disks); n {
	case 0:
		return Reason{Text: text + " holds is lost"}
	case 1:
		return Reason{Text: text + " and its data disk hold is lost"}
	default:
		return Reason{Text: fmt.Sprintf("%s and its %d data disks hold is lost", text, n)}
	}
}

func (w Work) as(word Word, why string) Work {
	w.Word = word
	w.Reasons = append(w.Reasons, Reason{Text: why})
	return w
}

func (c comparer) stray(k *Known) Work {
	w := Work{Key: k.Key, Word: Stray, Generation: k.Generation, Identity: machine.Identity(c.Ledger, k.Key, k.Generation)}
	w.Reasons = []Reason{{Text: "ours, and no longer in the sheet"}}
	return w
}

func cloneAgain(cs changes) bool {
	return slices.ContainsFunc(cs, func(c change) bool { return c.again })
}

func addsLater(cs changes) bool {
	return slices.ContainsFunc(cs, func(c change) bool { return c.later })
}

func changesClone(cs changes) bool {
	return slices.ContainsFunc(cs, func(c change) bool { return c.clone })
}
