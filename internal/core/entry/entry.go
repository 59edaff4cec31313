// Package entry is what stands for machines in the systems around them, such as a DNS server: what is to stand there, how
// that differs from what does, and what may be changed.
package entry

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
)

// Item is what stands under one name in a system.
type Item struct {
	// System is the setup's name of the system.
	System string `json:"system"`
	// Name is a domain name or a distinguished name, as the system has it.
	Name string `json:"name"`
	// Values are what stands there, such as `A 198.51.100.7`.
	Values []string `json:"values"`
}

// String writes the item as people read it.
func (i Item) String() string { return i.Name + " " + strings.Join(i.Values, ", ") }

// Entered is what a machine has in all systems, as far as the ledger has entered it.
type Entered struct {
	// Owner is the mark under which it was entered.
	Owner Owner  `json:"owner"`
	Items []Item `json:"items"`
	// Open is set while that is being changed: then any of it may be there, or not.
	Open bool `json:"open,omitempty"`
	// Next is the mark that it may have as well, while the machine gets another name.
	Next Owner `json:"next,omitzero"`
	// Unseen are those of the items, without values, under whose names something may stand that the ledger has forgotten: they were yet to be
	// entered, and nobody has looked.
	Unseen []Item `json:"unseen,omitempty"`
}

// Owner is the mark that a system stores beside what we enter.
type Owner struct {
	Ledger uuid.UUID `json:"ledger"`
	machine.Key
}

// IsZero reports whether there is no mark.
func (o Owner) IsZero() bool { return o == Owner{} }

const ownerBegins = "mintbatch ledger="

// String writes the mark.
func (o Owner) String() string { return ownerBegins + o.Ledger.String() + " machine=" + o.Key.String() }

// ParseOwner reads a mark; ok is false for texts that are none.
func ParseOwner(text string) (o Owner, ok bool) {
	rest, is := strings.CutPrefix(text, ownerBegins)
	id, key, both := strings.Cut(rest, " machine=")
	ledger, err := uuid.Parse(id)
	site, name, named := strings.Cut(key, "/")
	if !is || !both || !named || err != nil {
		return o, false
	}
	return Owner{ledger, machine.Key{Site: site, Name: name}}, true
}

// Seen is what a system has under a name.
type Seen struct {
	Name   string
	Values []string // of the kinds that we enter
	Owner  string   // the mark; empty if there is none
}

// Change is what an item is to become.
type Change struct {
	System, Name string
	// Had are the values that we have entered, or may have.
	Had []string
	// Want are those that are to stand there; none takes the item out.
	Want []string
	// Forgotten is set if the ledger may have forgotten what it has entered under the name. What stands there under its mark and is not wanted
	// is Unrecorded.
	Forgotten bool
	// Was is the mark under which the item was entered, Next one that it may have as well, and Owner that which it gets.
	Was, Next, Owner Owner
}

// Gone are the values that are to be taken out.
func (c Change) Gone() []string {
	return slices.DeleteFunc(slices.Clone(c.Had), func(v string) bool { return slices.Contains(c.Want, v) })
}

// IsNone reports whether the ledger says that nothing is to be done.
func (c Change) IsNone() bool {
	return c.Was == c.Owner && c.Next.IsZero() && slices.Equal(sorted(c.Had), sorted(c.Want))
}

func sorted(values []string) []string {
	values = slices.Clone(values)
	slices.Sort(values)
	return values
}

// Verdict says what may be done where something stands already.
type Verdict int

// The verdicts.
const (
	Enter   Verdict = iota // nothing stands there
	Update                 // it is ours
	Nothing                // there is nothing of ours to take out
)

// ErrForeign means that somebody else has the name. Nothing of it is changed.
var ErrForeign = errors.New("it was not entered by this ledger for this machine")

// Foreign is an ErrForeign with what stands there.
type Foreign struct {
	Name string
	Seen Seen
	Has  string // in words
}

// Error says what stands there.
func (f *Foreign) Error() string { return fmt.Sprintf("%s: %s: %s", f.Name, ErrForeign, f.Has) }

// Unwrap returns ErrForeign.
func (*Foreign) Unwrap() error { return ErrForeign }

// Unrecorded is what stands under the mark of a ledger that has forgotten that it has entered it, as one that was lost. It has to be
// recorded before it may be taken out.
type Unrecorded struct{ Item Item }

// Error says what stands there.
func (u *Unrecorded) Error() string { return u.Item.String() + ": it is not in the ledger" }

// Recorded is what a machine has, with what was found to be unrecorded.
func (e Entered) Recorded(u *Unrecorded) Entered {
	e.Items = slices.Clone(e.Items)
	e.Unseen = slices.DeleteFunc(slices.Clone(e.Unseen), u.Item.isNamedAs)
	if i := Find(e.Items, u.Item); i >= 0 {
		e.Items[i] = u.Item
		return e
	}
	e.Items = append(e.Items, u.Item)
	return e
}

// OtherOf returns the machine of a ledger that has the name.
func (f *Foreign) OtherOf(ledger uuid.UUID) (machine.Key, bool) {
	o, is := ParseOwner(f.Seen.Owner)
	return o.Key, is && o.Ledger == ledger
}

// Judge decides whether a change may be made where something is seen. It is asked before everything that is entered, changed
// or taken out.
func (c Change) Judge(s Seen) (Verdict, error) {
	mine := s.Owner != "" && slices.ContainsFunc([]Owner{c.Owner, c.Was, c.Next}, func(o Owner) bool { return !o.IsZero() && s.Owner == o.String() })
	switch {
	case mine && c.Forgotten && slices.ContainsFunc(s.Values, func(v string) bool { return !slices.Contains(c.Want, v) }):
		return Nothing, &Unrecorded{Item{System: c.System, Name: c.Name, Values: s.Values}}
	case mine:
		return Update, nil
	case len(c.Want) == 0:
		return Nothing, nil
	case s.Owner != "":
		return Nothing, &Foreign{c.Name, s, fmt.Sprintf("it has the mark %q", s.Owner)}
	case len(s.Values) > 0:
		return Nothing, &Foreign{c.Name, s, "it has " + strings.Join(s.Values, ", ")}
	}
	return Enter, nil
}

// Changes are what has to be done so that a machine has what is wanted and nothing else: first what is taken out, in the
// opposite order of entering it.
func Changes(had Entered, want []Item, owner Owner) []Change {
	var all []Change
	for _, h := range slices.Backward(had.Items) {
		if Find(want, h) < 0 {
			all = append(all, Change{System: h.System, Name: h.Name, Had: h.Values, Forgotten: Find(had.Unseen, h) >= 0, Was: had.Owner, Next: had.Next, Owner: owner})
		}
	}
	for _, w := range want {
		c := Change{System: w.System, Name: w.Name, Want: w.Values, Owner: owner}
		if i := Find(had.Items, w); i >= 0 {
			c.Had, c.Forgotten, c.Was, c.Next = had.Items[i].Values, Find(had.Unseen, w) >= 0, had.Owner, had.Next
		} else {
			c.Forgotten = true
		}
		all = append(all, c)
	}
	return all
}

// Missing are the items of which others lack something, with those values only.
func Missing(items, others []Item) (all []Item) {
	for _, i := range items {
		if at := Find(others, i); at >= 0 {
			i.Values = slices.DeleteFunc(slices.Clone(i.Values), func(v string) bool { return slices.Contains(others[at].Values, v) })
		}
		if len(i.Values) > 0 {
			all = append(all, i)
		}
	}
	return all
}

// Find is the place of the item that has the name of another; -1 if there is none.
func Find(items []Item, like Item) int {
	return slices.IndexFunc(items, like.isNamedAs)
}

func (i Item) isNamedAs(other Item) bool { return i.System == other.System && i.Name == other.Name }

// Same reports whether a machine has what is wanted and nothing else.
func Same(had Entered, want []Item, owner Owner) bool {
	return !had.Open && (had.Owner == owner || len(had.Items)+len(want) == 0) && !slices.ContainsFunc(Changes(had, want, owner), func(c Change) bool { return !c.IsNone() })
}

// Union is what a machine may have while it is brought from what it has to what is wanted.
func Union(had Entered, want []Item) Entered {
	all := Entered{Owner: had.Owner, Next: had.Next, Open: true, Unseen: slices.Clone(had.Unseen)}
	for _, h := range had.Items {
		h.Values = slices.Clone(h.Values)
		all.Items = append(all.Items, h)
	}
	for _, w := range want {
		i := Find(all.Items, w)
		if i < 0 {
			all.Items = append(all.Items, Item{System: w.System, Name: w.Name, Values: slices.Clone(w.Values)})
			all.Unseen = append(all.Unseen, Item{System: w.System, Name: w.Name})
			continue
		}
		for _, v := range w.Values {
			if !slices.Contains(all.Items[i].Values, v) {
				all.Items[i].Values = append(all.Items[i].Values, v)
			}
		}
	}
	return all
}

// Differs says in what that which is seen differs from what was entered; nothing if in nothing.
func (i Item) Differs(s Seen, owner Owner) (differences []string) {
	switch {
	case s.Owner == "" && len(s.Values) == 0:
		return []string{"is missing"}
	case s.Owner == "":
		differences = append(differences, "has lost its mark")
	case s.Owner != owner.String():
		differences = append(differences, fmt.Sprintf("has the mark %q", s.Owner))
	}
	for _, v := range i.Values {
		if !slices.Contains(s.Values, v) {
			differences = append(differences, v+" is missing")
		}
	}
	for _, v := range s.Values {
		if !slices.Contains(i.Values, v) {
			differences = append(differences, v+" was added")
		}
	}
	return differences
}
