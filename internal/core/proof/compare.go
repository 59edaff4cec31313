package proof

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/column"
	"mintbatch/internal/core/lookup"
	"mintbatch/internal/core/machine"
)

// Situation is all that a proof is computed from.
type Situation struct {
	Ledger uuid.UUID
	Wanted []Wanted
	Known  []*Known
	// Seen holds the machines of each site that was asked. A site that was
	// not asked is taken to have what the ledger says.
	Seen map[string][]Seen
	// Spent are the last generations of machines that were retired: no later one
	// may have their identity.
	Spent map[machine.Key]int
	// Hidden are machines on hosts that are down: the ledger is believed.
	Hidden map[machine.Key]bool
	// Requested reports whether a machine was asked for by another sheet than this one, so that it is no stray; nil if none was.
	Requested func(machine.Key, machine.Origin) bool
	// Today is the date, as rows write it: a machine that a sweep has shut down is left
	// off for as long as its own is over.
	Today string
	// Doubted are sites whose answer misses so many machines that it decides
	// nothing, with the reason. What such a site did not list is hidden, too.
	Doubted map[string]string
}

// Wanted is a machine that a sheet asks for. Nothing of it is changed.
type Wanted struct {
	machine.Key
	*machine.Slim
}

// What is said of machines that are ours: of one that the ledger has no word of, although it writes down what it
// begins before it begins it; and of one that the ledger has a later clone of, which is gone.
const (
	UnknownClone = "the site has a newer clone of this machine than the ledger, which may have been restored from a copy; `mintbatch ledger rebuild` updates it"
	EarlierClone = "the site has an earlier clone of this machine than the ledger, as after it was restored from a copy; `mintbatch ledger rebuild` takes that over, `mintbatch retire` deletes it"
)

// Outdated reports whether what is said of a machine is that the ledger is behind its site.
func Outdated(why string) bool { return why == UnknownClone || why == EarlierClone }

// Compare computes the work. Only the machines for which keep tells true are
// considered; a nil keep means all.
func Compare(s Situation, keep func(machine.Key) bool) Proof {
	c := comparer{Situation: s, renamed: map[machine.Key]*Known{}, sites: map[string]siteView{}, commons: machine.Commons{}}
	for site, seen := range s.Seen {
		v := siteView{byName: map[string]Seen{}, byIdentity: map[uuid.UUID]Seen{}}
		for _, m := range seen {
			v.byName[strings.ToLower(m.Name)] = m
			v.byIdentity[m.Identity] = m
		}
		c.sites[site] = v
	}
	for _, k := range s.Known {
		if k.Open.BeingRenamed() && c.siteView(k.Key, k.Origin, k.Generation).there {
			c.renamed[machine.Key{Site: k.Site, Name: strings.ToLower(k.Open.newName())}] = k
		}
	}
	p := Proof{Works: make([]Work, 0, len(s.Wanted))}
	at := lookup.New(len(s.Known), func(i int) machine.Key { return s.Known[i].Key }, machine.Key.Compare)
	wanted := make([]bool, len(s.Known))
	for _, m := range s.Wanted {
		var known *Known
		if i, is := at.Find(m.Key); is {
			known, wanted[i] = s.Known[i], true
		}
		if keep(m.Key) {
			w := c.work(m, known)
			if w.Word == Same && c.siteView(w.Key, w.Origin, w.Generation).seen {
				w.Refusal = "" // of this one the site has told
			}
			p.Works = append(p.Works, w)
		}
	}
	for i, k := range s.Known {
		if !wanted[i] && keep(k.Key) && (s.Requested == nil || !s.Requested(k.Key, k.Origin)) {
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
	renamed map[machine.Key]*Known // those that are being renamed, by their new names in lower case
	sites   map[string]siteView
	commons machine.Commons
}

// view is what a site shows of one generation of a machine.
type view struct {
	Seen
	there bool // at the site, or taken to be
	seen  bool // the site itself says so
}

// siteView finds a generation at its site.
func (c comparer) siteView(key machine.Key, origin machine.Origin, generation int) view {
	site, asked := c.sites[key.Site]
	if !asked {
		return view{there: true}
	}
	here, there := site.byIdentity[origin.Identity(c.Ledger, key, generation)]
	return view{Seen: here, there: there || c.Hidden[key] || c.Doubted[key.Site] != "", seen: there}
}

// work is that on a wanted machine; has is what the ledger holds of it, or nil.
func (c comparer) work(m Wanted, has *Known) Work {
	known, isKnown := has, has != nil
	if !isKnown {
		known = &Known{Key: m.Key, Generation: c.Spent[m.Key] + 1, State: Making, Slim: *m.Slim}
	}
	w := Work{Key: m.Key, Origin: known.Origin, Slim: m.Slim, Word: New, Generation: known.Generation, Identity: known.ID(c.Ledger), Refusal: c.Doubted[m.Site], after: c.Spent[m.Key], known: has}
	here := c.siteView(m.Key, known.Origin, known.Generation)
	if here.Unclear != "" {
		return w.withWord(Taken, here.Unclear)
	}
	if here.seen && !isKnown {
		return w.withWord(Taken, UnknownClone)
	}
	if here.seen && here.Ledger != c.Ledger {
		return w.withWord(Taken, "the site has a machine with this identity but without this ledger's mark")
	}
	if other := c.renamed[machine.Key{Site: m.Site, Name: strings.ToLower(m.Name)}]; other != nil && !isKnown {
		return w.withWord(Taken, other.left(view{}).own)
	}
	named, nameThere := c.sites[m.Site].byName[strings.ToLower(m.Name)]
	if nameThere && named.Identity != w.Identity {
		switch {
		case named.Ledger != c.Ledger:
			return w.withWord(Taken, "the site has a machine of this name that does not belong to this ledger")
		case !isKnown || named.Generation > w.Generation:
			return w.withWord(Taken, UnknownClone)
		case known.State == Made && here.seen:
			return w.withWord(Taken, "the site has two clones of this machine; `mintbatch retire` deletes both")
		case known.State == Made:
			return w.withWord(Taken, EarlierClone)
		}
	}
	switch {
	case !isKnown:
		return w
	case known.State == Made && !here.there:
		had := w.Data
		w.Data = nil
		return w.remake(c.Ledger, uuid.Nil).withWord(New, "it no longer exists at the site").outlived(had)
	case known.State == Made:
		return c.made(w, known, here)
	}
	return c.begun(w, known, here, named, nameThere)
}

// begun is the work on a machine that a run began and did not finish.
func (c comparer) begun(w Work, known *Known, here view, named Seen, nameThere bool) Work {
	if e := known.Earlier; e != nil && !here.seen {
		old := c.siteView(w.Key, e.Origin, e.Generation)
		if nameThere && e.Generation == 0 && named.Generation < w.Generation { // of an older form of the ledger, which did not write down which
			old, e = view{Seen: named, there: true, seen: true}, &Earlier{Generation: named.Generation, Removal: true}
		}
		if old.there {
			return c.replacing(w, known, e, old)
		}
		if w.Lost = e.Data; !e.Removal {
			w = w.outlived(e.Data)
		}
	}
	w.Begun = true
	givenUp := uuid.Nil // an earlier clone that was half-made
	if nameThere && named.Identity != w.Identity {
		givenUp, w.Replaces = named.Identity, named.Identity
		if named.Power == machine.On {
			return w.setLoss(known.clone(w.Identity).doubted(removalStarted), "an earlier clone is running and must be deleted first")
		}
	}
	started := known.Started || here.seen && here.Power == machine.On
	w.Slim, w.IsOff = withLater(w.Slim, known), here.seen && here.Power == machine.Off
	changes := between(&known.Slim, w.Slim)
	w.Reasons = append(w.Reasons, Reason{Text: "started by an earlier run and not finished"})
	replaces := givenUp
	if givenUp == uuid.Nil {
		replaces = w.Identity
	}
	switch {
	case known.Cloned && !here.there, known.Generation <= c.Spent[w.Key] && !here.seen:
		w = w.remake(c.Ledger, givenUp)
	case changes.any(func(c column.Change) bool { return c.NeedsClone() || started && c != column.InPlace }):
		// Also where nothing is seen: the site may still be cloning what was
		// asked before.
		w = w.remake(c.Ledger, replaces)
		if started {
			w.Reasons = append(w.Reasons, changes.reasons()...)
			of := known.clone(replaces)
			if replaces != known.ID(c.Ledger) {
				of = of.doubted(removalStarted)
			}
			return w.setLoss(of, "")
		}
	}
	w.Reasons = append(w.Reasons, changes.reasons()...)
	if len(w.Data) > 0 {
		w.Reasons = append(w.Reasons, Reason{Text: areKept(len(w.Data)) + " kept"})
	}
	return w
}

// replacing is the work on a machine of which an earlier clone is still there:
// a remake was begun that has not removed it. Where that is no longer wanted, the
// machine goes back to that clone.
func (c comparer) replacing(w Work, known *Known, e *Earlier, old view) Work {
	back := &Known{Key: known.Key, Origin: e.Origin, Generation: e.Generation, State: Made, Slim: *e.Spec.Slim(), Host: e.Host, Store: e.Store}
	if whole := !e.Removal || old.Power == machine.On; whole && !e.Unfinished {
		returned := w
		returned.Generation, returned.Identity, returned.Origin = e.Generation, back.ID(c.Ledger), e.Origin
		returned.after = max(w.after, known.Generation)
		returned = c.made(returned, back, old)
		if returned.Word != Remake {
			returned.Word, returned.Back, returned.Redo, returned.Again = Adjust, true, true, true
			returned.Drift = nil
			returned.Reasons = append([]Reason{{Text: "a remake was started and is no longer wanted: the existing clone is kept"}}, returned.Reasons...)
			returned.restarts()
			return returned
		}
	}
	w.Begun = true
	w.Reasons = append(w.Reasons, Reason{Text: "started by an earlier run and not finished"})
	changes := between(&back.Slim, w.Slim)
	if e.Removal && !changes.any(func(c column.Change) bool { return c >= column.Another }) {
		w.Reasons = append(w.Reasons, Reason{Text: "the removal of its clone was started, so its disks may be incomplete"})
	}
	w.Reasons = append(w.Reasons, changes.reasons()...)
	if between(&known.Slim, w.Slim).any(column.Change.NeedsClone) || known.Cloned {
		w = w.remake(c.Ledger, uuid.Nil)
	}
	w.Replaces = old.Identity
	if old.Identity == uuid.Nil {
		w.Replaces = back.ID(c.Ledger)
	}
	of := back.clone(w.Replaces)
	if e.Removal {
		of = of.doubted(removalStarted)
	}
	w.Lost = e.Data
	return w.setLoss(of, "")
}

// made is the work on a machine that was made and is there.
func (c comparer) made(w Work, known *Known, here view) Work {
	w.Slim, w.Power, w.known = withLater(w.Slim, known), here.Power, known
	if known.Common().Clone.Kind == machine.Full && w.Common().Clone.Kind == machine.Linked {
		m := w.Slim.Spec()
		m.Clone.Kind, w.full = machine.Full, w.Slim
		w.Slim, w.Note = c.commons.Slim(m), "a full clone stays one; clone: linked counts when it is cloned again"
	}
	changes := between(&known.Slim, w.Slim)
	dated, rest := changes.split()
	if rest.any(func(c column.Change) bool { return c >= column.Another }) {
		w.Reasons = changes.reasons()
		for i := range w.Reasons {
			w.Reasons[i].GuestNotUpdated = false // another guest has the settings of all
		}
		return w.replaced(c.Ledger, "")
	}
	open := known.left(here)
	if open.removal != "" {
		w.Reasons, w.KeepsDisks = changes.reasons(), known.KeepsDisks
		w.Refusal = fmt.Sprintf("a retire was started: `mintbatch retire %s` finishes it", w.Key)
		w.doubt = removalStarted
		return w.replaced(c.Ledger, open.removal)
	}
	if open.own != "" && w.Refusal == "" {
		w.Refusal, w.Restoring = open.own, true
	}
	if len(dated) > 0 {
		w.full = cmp.Or(w.full, w.Slim)
		w.Slim = c.commons.Slim(asMade(w.Slim.Spec(), known.Spec()))
	}
	w.Reasons = rest.reasons()
	if rest.changes("power") {
		open.off = "" // no longer
	}
	switch {
	case open.own != "":
		w.Word = Adjust
	case open.unfinished != "":
		w.Word, w.Redo, w.Again, w.doubt = Adjust, true, true, open.unfinished+": `mintbatch mint` does, and then its data disks can be kept"
		w.Reasons = append([]Reason{{Text: open.unfinished}}, w.Reasons...)
	case open.swept && (w.Info.Until == "" || w.Info.Until >= c.Today):
		w.Word, w.Redo, w.Again = Adjust, true, true
		w.Reasons = append([]Reason{{Text: open.off}}, w.Reasons...)
	case len(rest) > 0:
		w.Word, w.Dated, w.LeftOff = Adjust, dated.reasons(), open.off
	case len(dated) > 0:
		w.Word, w.Reasons, w.LeftOff = Dated, dated.reasons(), open.off
	default:
		w.Word, w.LeftOff = Same, open.off
	}
	if here.seen && !w.Redo {
		if w.Drift = drift(known.Name, known.Spec(), &here.Seen); len(w.Drift) > 0 {
			// What is as it is to be from now on, an earlier run has done.
			still := drift(w.Name, w.Slim.Spec(), &here.Seen)
			w.Drift = slices.DeleteFunc(w.Drift, func(r Reason) bool {
				return rest.changes(r.Field) || r.Field == "power" && open.off != "" ||
					!slices.ContainsFunc(still, func(s Reason) bool { return s.Field == r.Field })
			})
		}
	}
	w.restarts()
	return w
}

func (cs changes) changes(field string) bool {
	return slices.ContainsFunc(cs, func(c change) bool { return c.Field == field })
}

// asMade is what is wanted of a machine without what only another first boot or another
// clone could give it.
func asMade(m, has machine.Spec) machine.Spec {
	m.Adapters = slices.Clone(m.Adapters)
	m.Guest, m.Template, m.Clone.Template = has.Guest, has.Template, has.Clone.Template
	later := func(c column.Column) bool { return c.Change == column.NextBoot || c.Change == column.NextClone }
	copySettings(&m, &has, later)
	return m
}

// copySettings takes over the settings of another spec for which which reports true.
func copySettings(into, from *machine.Spec, which func(column.Column) bool) {
	for _, c := range settings {
		if which(c) {
			c.Copy(into, from, 0)
		}
	}
	for _, c := range adapterSettings {
		for i := range min(len(into.Adapters), len(from.Adapters)) {
			if which(c) {
				c.Copy(into, from, i)
			}
		}
	}
}

// withLater is what is wanted of a machine with what is known of its adapters:
// those that came, or now come, after its first boot.
func withLater(m *machine.Slim, known *Known) *machine.Slim {
	later := func(i int) bool {
		if i < len(known.Adapters) {
			return known.Adapters[i].Later
		}
		return known.State == Made
	}
	for i := range m.Adapters {
		if later(i) {
			return lastReported(m, i)
		}
	}
	return m
}

// lastReported is a machine whose guest has the settings of its first n adapters.
func lastReported(m *machine.Slim, n int) *machine.Slim {
	copied := *m
	copied.Adapters = slices.Clone(m.Adapters)
	for i := range copied.Adapters {
		copied.Adapters[i].Later = i >= n
	}
	return &copied
}

// remake makes the work that of the next generation, for which a clone that is at
// the site, if any, has to go first.
func (w Work) remake(ledger uuid.UUID, replaces uuid.UUID) Work {
	w.Replaces = replaces
	w.Generation = max(w.Generation, w.after) + 1
	w.Born, w.Identity = "", machine.Identity(ledger, w.Key, w.Generation)
	if w.Slim != nil && len(machine.AtFirstBoot(w.Adapters)) < len(w.Adapters) {
		w.Slim = lastReported(w.Slim, len(w.Adapters)) // another guest has the settings of all
	}
	return w
}

// replaced makes the work on a machine that is made a remake.
func (w Work) replaced(ledger uuid.UUID, why string) Work {
	of := w.known.clone(w.Identity).doubted(w.doubt)
	w.Lost, w.Data = w.Data, nil
	return w.remake(ledger, w.Identity).setLoss(of, why)
}

// Remade turns the work on every machine that is there into a remake, as
// somebody has asked for by its name. What is not there or not ours stays what
// it is, and so does what finished names: machines that the same command, which was
// interrupted, has cloned again already, with the run that did.
func (p Proof) Remade(ledger uuid.UUID, finished map[machine.Key]string, data DataDisks) Proof {
	works := make([]Work, len(p.Works))
	for i, w := range p.Works {
		run, done := finished[w.Key]
		switch {
		case done && w.Word == Same:
			w.Reasons = append(w.Reasons, Reason{Text: fmt.Sprintf("already cloned again by run %s, which this command continues; name it alone to clone it once more", run)})
		case w.Word == Same || w.Word == Adjust || w.Word == Dated:
			dated := w.Dated
			if w.Word == Dated {
				dated = w.Reasons
			}
			asked := w
			if w.Restoring {
				asked.Refusal = "" // another clone does without what is left of this one
			}
			asked.Slim, asked.Reasons, asked.Drift, asked.Dated = cmp.Or(w.full, w.Slim), nil, nil, nil
			asked.Back, asked.Redo, asked.Again, asked.LeftOff = false, false, false, ""
			asked.Reasons = append([]Reason{{Text: "requested"}}, dated...)
			w = asked.replaced(ledger, "")
		case w.Word == Remake && w.Refusal != "" && !w.KeepsDisks:
			w.Refusal = ""
		}
		if data == KeepDataDisks && w.Word == Remake {
			w = w.keepData()
		}
		works[i] = w
	}
	return Proof{works}
}

func (w Work) withWord(word Word, why string) Work {
	w.Word = word
	w.Reasons = append(w.Reasons, Reason{Text: why})
	return w
}

// outlived keeps the data disks that a clone which is gone had from clones before it, but for those
// that the next one has: nobody has asked for their loss.
func (w Work) outlived(had []uuid.UUID) Work {
	w.Lost, w.KeepsLost = had, true
	if slices.ContainsFunc(had, func(id uuid.UUID) bool { return id != uuid.Nil && !slices.Contains(w.Data, id) }) {
		w.Reasons = append(w.Reasons, Reason{Text: "data disks that it had from an earlier clone stay at the site, and are not used again"})
	}
	return w
}

// Wanted is the machine as its row wants it.
func (w Work) Wanted() *machine.Machine {
	return &machine.Machine{Key: w.Key, Spec: cmp.Or(w.full, w.Slim).Spec()}
}

func (c comparer) stray(k *Known) Work {
	w := Work{Key: k.Key, Origin: k.Origin, Word: Stray, Generation: k.Generation, Identity: k.ID(c.Ledger)}
	w.Reasons = []Reason{{Text: "made by this ledger, no longer in the sheet"}}
	return w
}
