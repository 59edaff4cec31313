package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/notice"
	"mintbatch/internal/core/step"
	"mintbatch/internal/enrol"
	"mintbatch/internal/ledger"
)

// Around is what an engine needs of the systems around machines.
type Around struct {
	// System finds a system by its name.
	System func(name string) (enrol.System, error)
	// Entries is what is to stand in systems for a machine.
	Entries func(m *machine.Machine, hostKey string) []entry.Item
	// Entered is what machines have there, or may have.
	Entered map[machine.Key]entry.Entered
	// Tell makes notices of an event, and Told is called once they are kept; nil if nobody is told.
	Tell func(e notice.Event) []ledger.Outgoing
	Told func()
	// Leave leaves the entries of machines that are retired.
	Leave bool
}

// enrols reports whether a machine has, or is to have, entries.
func (j *job) enrols(m *machine.Machine) bool {
	return len(j.has().Items) > 0 || j.Around.Entries != nil && len(j.Around.Entries(m, "")) > 0
}

// has is what the machine has in the systems around it, or may have.
func (j *job) has() entry.Entered {
	if j.entered != nil {
		return *j.entered
	}
	return j.Around.Entered[j.work.Key]
}

// enrolAct is the step by which a machine, or what becomes of it, has its entries and no others. Where it has them already, by the
// ledger, no system is asked unless that is to be done always.
func (j *job) enrolAct(m *machine.Machine, always bool) act {
	return act{name: step.Enrol, input: time.Now(), do: func(ctx, _ context.Context) error {
		hostKey, err := j.Ledger.HostKey(ctx, j.work.Key)
		if err != nil {
			return err
		}
		return j.enrol(ctx, m, hostKey, always)
	}}
}

// enrol brings the entries of a machine in line with what it is. What may be entered is written down first.
func (j *job) enrol(ctx context.Context, m *machine.Machine, hostKey string, always bool) error {
	had, owner := j.has(), entry.Owner{Ledger: j.Owner, Key: m.Key}
	want := entry.KeepFingerprints(j.Around.Entries(m, hostKey), had, hostKey)
	if !always && entry.Same(had, want, owner) {
		return nil
	}
	if err := j.bring(ctx, had, want, owner); err != nil {
		return err
	}
	return j.putEntered(ctx, entry.Entered{Owner: owner, Items: want})
}

// bring changes what a machine has to what is wanted. What may stand there meanwhile is written down first, and so is what is found
// under its mark that nobody has written down. What is new and has no place is not.
func (j *job) bring(ctx context.Context, had entry.Entered, want []entry.Item, owner entry.Owner) error {
	if err := enrol.Place(ctx, j.Around.System, slices.DeleteFunc(slices.Clone(want), func(w entry.Item) bool { return entry.Find(had.Items, w) >= 0 })); err != nil {
		return err // what was never entered need not be taken out
	}
	for {
		may := entry.Union(had, want)
		if may.Owner.IsZero() {
			may.Owner = owner
		} else if may.Owner != owner {
			may.Next = owner
		}
		if err := j.putEntered(ctx, may); err != nil {
			return err
		}
		err := j.change(ctx, entry.Changes(had, want, owner))
		var found *entry.Unrecorded
		if !errors.As(err, &found) {
			return err
		}
		if had.Owner.IsZero() {
			had.Owner = owner
		}
		had = had.Recorded(found)
	}
}

func (j *job) putEntered(ctx context.Context, e entry.Entered) error {
	if err := j.Ledger.PutEntered(context.WithoutCancel(ctx), j.work.Key, e); err != nil {
		return err
	}
	j.entered = &e
	return nil
}

func (j *job) change(ctx context.Context, changes []entry.Change) error {
	if err := j.Ledger.Current(); err != nil {
		return err // another run may be at this machine by now
	}
	ctx, cancel := context.WithTimeout(ctx, j.Times[AnyStep])
	defer cancel()
	for waited := time.Duration(0); ; waited += retryDelay {
		err := enrol.Make(ctx, j.Around.System, changes)
		var foreign *entry.Foreign
		if !errors.As(err, &foreign) || waited >= longestWait {
			return err
		}
		// What seems to be nobody's may have been read while another machine gave it up: it is looked at twice.
		if _, ours := foreign.OtherOf(j.Owner); !ours && waited > 0 {
			return err
		}
		if err := sleep(ctx, retryDelay); err != nil {
			return err
		}
	}
}

// longestWait is how long a name is waited for that another machine of this ledger has: it may be about to get another one.
const longestWait = 5 * time.Second

// withdrawAct is the step that takes out all entries of a machine that is to be retired. Of one that is not ours it takes out
// none.
func (j *job) withdrawAct() act {
	return act{name: step.Withdraw, do: func(ctx, _ context.Context) error {
		for _, c := range j.clones() {
			if _, err := j.owned(ctx, c.id); err != nil {
				return err
			}
		}
		had, owner := j.has(), entry.Owner{Ledger: j.Owner, Key: j.work.Key}
		if len(had.Items) == 0 { // by a ledger that was made again
			if err := j.look(ctx, &had, owner); err != nil {
				return err
			}
		}
		if err := j.bring(ctx, had, nil, owner); err != nil {
			return err
		}
		return j.putEntered(ctx, entry.Entered{})
	}}
}

// look finds what stands under the mark of a machine of which the ledger has nothing.
func (j *job) look(ctx context.Context, had *entry.Entered, owner entry.Owner) error {
	hostKey, err := j.Ledger.HostKey(ctx, j.work.Key)
	if err != nil {
		return err
	}
	had.Owner = owner
	for _, item := range j.Around.Entries(j.work.Machine(), hostKey) {
		err := j.change(ctx, []entry.Change{{System: item.System, Name: item.Name, Owner: owner, Forgotten: true}})
		var found *entry.Unrecorded
		if errors.As(err, &found) {
			*had = had.Recorded(found)
		} else if err != nil {
			return err
		}
	}
	return nil
}

// prepareAccount gives the machine's account in the domain that it joins the password that is in its seed. A guest that has joined has
// another one: that is only replaced where it gets a new seed.
func (j *job) prepareAccount(ctx context.Context, password string) error {
	if password == "" {
		return nil
	}
	if err := j.Ledger.Current(); err != nil {
		return err // another run may be at this machine by now
	}
	ctx, cancel := context.WithTimeout(ctx, j.Times[AnyStep])
	defer cancel()
	owner := entry.Owner{Ledger: j.Owner, Key: j.work.Key}
	for _, item := range j.has().Items {
		s, err := j.Around.System(item.System)
		if err != nil {
			return err
		}
		if domain, is := s.(enrol.Domain); is {
			c := entry.Change{System: item.System, Name: item.Name, Had: item.Values, Want: item.Values, Was: owner, Owner: owner}
			if err := enrol.Try(ctx, func() error { return domain.SetPassword(ctx, c, password) }); err != nil {
				return fmt.Errorf("%s: %w", item.System, err)
			}
			return nil
		}
	}
	return fmt.Errorf("it has no account in %s: `mintbatch mint` enters it", j.work.Machine().Guest.Joins)
}
