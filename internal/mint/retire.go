package mint

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/google/uuid"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
	"mintbatch/internal/plan"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
)

// Retiring is what a retire is about.
type Retiring struct {
	Works []proof.Work
	// Gone are machines that were named and retired before.
	Gone []ledger.Event
	// Entries are what the works have in the systems around them.
	Entries []entry.Item
	// Wanted counts the machines that the sheet still has, if one can be read.
	Wanted int
}

// Which machines a retire is about: those that are named, or all strays.
type Which struct {
	Names  []string
	Strays bool
}

// Retiring finds the machines that are named, or all that the sheet no longer has.
// A name of a machine that is retired already is no mistake: the command may have
// been interrupted.
func (d *Desk) Retiring(ctx context.Context, which Which, missing plan.Missing) (*Retiring, error) {
	r := &Retiring{}
	wanted := d.ByKey()
	var err error
	if which.Strays {
		requested, failed := d.Ledger.Requested(ctx)
		if failed != nil {
			return nil, failed
		}
		r.Works, err = d.OwnedAll(ctx)
		r.Works = slices.DeleteFunc(r.Works, func(w proof.Work) bool { return wanted[w.Key] != nil || requested.Made(w.Key, w.Origin) })
	} else {
		still, failed := d.stillThere(ctx, r, which.Names)
		if failed != nil {
			return nil, failed
		}
		r.Works, err = d.Owned(ctx, still)
	}
	entered, failed := d.enteredOf(ctx, r.Works)
	for _, w := range r.Works {
		if wanted[w.Key] != nil {
			r.Wanted++
		}
		r.Entries = append(r.Entries, entered[w.Key].Items...)
	}
	return r, errors.Join(err, failed, d.Retirable(ctx, r.Works, missing))
}

// stillThere are those of some names of which the ledger has machines. What was retired already of the others is added to what the
// retire is about; a name that means nothing is an error.
func (d *Desk) stillThere(ctx context.Context, r *Retiring, names []string) ([]string, error) {
	var still []string
	for _, name := range names {
		_, err := d.Known(ctx, []string{name})
		named := glob.Keys([]string{name})
		switch {
		case err == nil:
			still = append(still, name)
			continue
		case !errors.Is(err, glob.ErrNoMatch):
			return nil, err
		}
		gone, failed := d.retired(ctx, name)
		switch {
		case failed != nil:
			return nil, failed
		case len(gone) > 0:
			r.Gone = append(r.Gone, gone...)
		case slices.ContainsFunc(d.Wanted, func(w *batch.Wanted) bool { return named(w.Key) }):
			return nil, fmt.Errorf("%w: %s is in the sheet but was never made", glob.ErrNoMatch, name)
		default:
			return nil, err
		}
	}
	return still, nil
}

// retired finds, of each machine of a name, when it was retired last.
func (d *Desk) retired(ctx context.Context, name string) ([]ledger.Event, error) {
	all, err := d.Ledger.History(ctx)
	last, named := map[machine.Key]ledger.Event{}, glob.Keys([]string{name})
	for _, e := range all {
		if e.What == "retired" && named(e.Key) {
			last[e.Key] = e
		}
	}
	return slices.Collect(maps.Values(last)), err
}

// Retirable refuses to forget machines that a site does not list, where it lists
// so few that it is not believed, and those of which it has a later clone. It adds to the works
// what else there is to remove.
func (d *Desk) Retirable(ctx context.Context, works []proof.Work, missing plan.Missing) error {
	if len(works) == 0 {
		return nil
	}
	names := map[string]bool{}
	for _, w := range works {
		names[w.Site] = true
	}
	known, err := d.Ledger.Machines(ctx)
	if err != nil {
		return err
	}
	answers, err := d.Sites.AskAll(ctx, names)
	if err != nil {
		return err
	}
	for _, why := range d.Doubts(known, answers, missing) {
		return fmt.Errorf("%w: check the site; if the machines were deleted, give --accept-missing", errors.New(why))
	}
	last := map[machine.Key]int{}
	listed, ours := map[uuid.UUID]bool{}, map[string][]contract.Machine{} // by their marks
	kept := map[uuid.UUID]bool{}
	for site, answer := range answers {
		for _, k := range answer.Kept {
			kept[k.ID] = true
		}
		for _, m := range answer.Machines {
			listed[m.ID] = true
			if m.Mark != nil && m.Mark.Ledger == d.Ledger.ID {
				of := site + " " + m.Mark.Key
				ours[of] = append(ours[of], m)
			}
		}
		for _, m := range newest(answer.Machines, d.Ledger.ID) {
			last[machine.Key{Site: site, Name: m.Name}] = m.Mark.Generation
		}
	}
	for i, w := range works {
		if last[w.Key] > w.Generation {
			return fmt.Errorf("%s: %s", w.Name, proof.UnknownClone)
		}
		leaveKept(&works[i], kept)
		works[i].Rests = rests(w, ours[w.Site+" "+w.Key.String()], d.Ledger.ID)
		if listed[w.Identity] {
			continue
		}
		if err := d.unlisted(ctx, &works[i]); err != nil {
			return err
		}
	}
	return nil
}

// leaveKept leaves the data disks of clones before a machine as they are where its site has kept
// them already: nothing deletes them any more.
func leaveKept(w *proof.Work, kept map[uuid.UUID]bool) {
	is := func(id uuid.UUID) bool { return kept[id] }
	w.Data = slices.DeleteFunc(slices.Clone(w.Data), is)
	if w.Earlier != nil {
		e := *w.Earlier
		e.Data = slices.DeleteFunc(slices.Clone(e.Data), is)
		w.Earlier = &e
	}
}

// unlisted asks by name for the clone before one that its site does not list: a site that once
// told of no machines, and does so again, may have it all the same.
func (d *Desk) unlisted(ctx context.Context, w *proof.Work) error {
	if w.Generation < 2 || w.Earlier != nil || len(w.Rests) > 0 {
		return nil
	}
	s, err := d.Sites.Site(w.Site)
	if err != nil {
		return err
	}
	before := machine.Identity(d.Ledger.ID, w.Key, w.Generation-1)
	m, err := s.Machine(ctx, before)
	if errors.Is(err, site.ErrNotFound) {
		return nil
	}
	if err == nil && m.Mark != nil && m.Mark.Ledger == d.Ledger.ID && m.Mark.Key == w.Key.String() {
		w.Rests = []proof.Rest{{Identity: before, Generation: w.Generation - 1}}
	}
	return err
}

// rests are those of the clones of a machine at its site that the ledger does not tell of: a run
// that was told of no machines has left them behind.
func rests(w proof.Work, clones []contract.Machine, id uuid.UUID) (all []proof.Rest) {
	earlier := uuid.Nil
	if e := w.Earlier; e != nil {
		earlier = e.Identity(id, w.Key, e.Generation)
	}
	for _, m := range clones {
		if m.ID != w.Identity && m.ID != earlier {
			all = append(all, proof.Rest{Identity: m.ID, Generation: m.Mark.Generation})
		}
	}
	return all
}

// Owned lists the machines of the ledger whose names match one of the globs,
// as work for Retire. No glob matches none.
func (d *Desk) Owned(ctx context.Context, names []string) ([]proof.Work, error) {
	if len(names) == 0 {
		return nil, nil
	}
	return d.owned(ctx, names)
}

// OwnedAll is Owned of all machines, which may be none.
func (d *Desk) OwnedAll(ctx context.Context) ([]proof.Work, error) { return d.owned(ctx, nil) }

func (d *Desk) owned(ctx context.Context, names []string) ([]proof.Work, error) {
	known, err := d.Known(ctx, names)
	if err != nil {
		return nil, err
	}
	var works []proof.Work
	for i := range known {
		k := &known[i]
		works = append(works, proof.Work{Key: k.Key, Origin: k.Origin, Generation: k.Generation, Identity: k.ID(d.Ledger.ID), Earlier: k.Earlier, BeingRenamed: k.Open.BeingRenamed(), Slim: &k.Slim})
	}
	return works, nil
}

// Retirement is the task of deleting machines and giving their addresses back, whatever
// the sheet says.
func Retirement(command string, works []proof.Work, o Order) Task {
	return Task{Command: command, Works: works, Order: o, do: (*run.Engine).Retire}
}

// keptDisks lists the machines of an outcome that were retired without their disks.
func (d *Desk) keptDisks(ctx context.Context, o *Outcome, disks contract.Disks) (some []ledger.Kept, err error) {
	if disks != contract.KeepDisks {
		return nil, nil
	}
	kept, err := d.Ledger.Kept(ctx)
	for _, k := range kept {
		if slices.ContainsFunc(o.Results, func(r run.Result) bool {
			return r.Err == nil && r.Key == k.Key && (r.Generation == k.Generation || r.Earlier != nil && r.Earlier.Generation == k.Generation)
		}) {
			some = append(some, k)
		}
	}
	return some, err
}
