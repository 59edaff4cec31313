// Package proof computes what a mint would do, without doing it.
package proof

import (
	"slices"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/place"
)

// Word is the kind of work that a machine needs.
type Word string

// The words of work.
const (
	New    Word = "new"    // to be cloned
	Adjust Word = "adjust" // differs in what can be changed in place
	Remake Word = "remake" // differs in what only another clone can change
	Dated  Word = "dated"  // differs only in what is for machines yet to be made
	Same   Word = "same"   // as asked
	Stray  Word = "stray"  // ours, no longer in the sheet
	Taken  Word = "taken"  // the name is there and is not ours
)

// Words lists all kinds of work in the order in which they are reported.
var Words = []Word{New, Adjust, Remake, Dated, Same, Stray, Taken}

// Work is what one machine needs.
type Work struct {
	machine.Key
	machine.Origin `json:"-"`
	Word           Word     `json:"work"`
	Reasons        []Reason `json:"reasons,omitempty"`
	// Slim is what is wanted; nil for a stray.
	*machine.Slim `json:"-"`
	// Generation and Identity are those that the machine has, or will get.
	Generation int       `json:"generation,omitempty"`
	Identity   uuid.UUID `json:"identity,omitzero"`
	// Replaces is a clone of an earlier generation that has to go first: a
	// half-made one, or the one that a remake gives up.
	Replaces uuid.UUID `json:"replaces,omitzero"`
	// Drift is in what somebody has changed the machine at its site. It is put
	// right only when that is asked for.
	Drift []Reason `json:"drift,omitempty"`
	// Dated is in what an adjusted machine differs from its row, and only another
	// first boot could change.
	Dated []Reason `json:"dated,omitempty"`
	// Refusal is why nothing is done about the machine for now; empty if nothing
	// stands against it.
	Refusal string `json:"refusal,omitempty"`
	// Entries are what is to stand for the machine in the systems around it, where that is not there yet.
	Entries []entry.Item `json:"entries,omitempty"`
	// Note says in what the machine differs from its row for good.
	Note string `json:"note,omitempty"`
	// LeftOff says who has shut the machine down on purpose; it is left so.
	LeftOff string `json:"left_off,omitempty"`
	// Swept reports that the machine was shut down because its date was over.
	Swept bool `json:"-"`
	// Power is what the site says; empty if it was not asked, or does not tell.
	Power machine.Power `json:"-"`
	// Again means that steps are taken which were taken before.
	Again bool `json:"-"`
	// Begun is set for what an earlier run has begun and not finished.
	Begun bool `json:"-"`
	// Redo means that an earlier run has changed the machine in part: all that can
	// be changed in place is brought in line, and the machine started.
	Redo bool `json:"-"`
	// Back means that the machine goes back to the clone of an earlier generation,
	// which a remake did not come to replace.
	Back bool `json:"-"`
	// Accepted means that nothing is changed at the machine: its row is taken over.
	Accepted bool `json:"-"`
	// IsOff reports that an unfinished machine is off, also if it was started before.
	IsOff bool `json:"-"`
	// Cleaned reports that it was being cleaned for a template, and may have the seed that does so.
	Cleaned bool `json:"-"`
	// Restoring reports that the machine is refused because its restore is open.
	Restoring bool `json:"-"`
	// BeingRenamed reports that its site may know the machine by another name already.
	BeingRenamed bool `json:"-"`
	// KeepsDisks reports that the machine's disks are to be kept by a retire that is open.
	KeepsDisks bool `json:"-"`

	known *Known        // what the ledger holds of it; nil for a stray, and if it does not have it
	doubt string        // why the data disks of the clone that is there cannot be kept; empty if they can
	after int           // the last generation that was begun, if that is a later one
	full  *machine.Slim // what is wanted, where Slim is less
	old   *old          // the clone that is replaced
	// Earlier is the clone that an open remake was to replace; nil if there is none. It is
	// set for machines that are to be retired.
	Earlier *Earlier `json:"-"`
	// Rests are further clones of a machine that is to be retired.
	Rests []Rest `json:"-"`
	// Lost are the identities, but that of the clone that is replaced, for which data disks were
	// made that go with it.
	Lost []uuid.UUID `json:"-"`
	// KeepsLost keeps these disks, as ones that outlive their machine.
	KeepsLost bool `json:"-"`
	// Place is where the machine goes, or is, at a site that leaves the choice.
	Place *place.Place `json:"place,omitempty"`
}

// Machine is the machine as the work makes it; nil for a stray.
func (w *Work) Machine() *machine.Machine {
	if w.Slim == nil {
		return nil
	}
	return &machine.Machine{Key: w.Key, Spec: w.Slim.Spec()}
}

// Was is where its last clone is, or was, by the ledger.
func (w *Work) Was() place.Place {
	if w.known == nil {
		return place.Place{}
	}
	return place.Place{Host: w.known.Host, Store: w.known.Store}
}

// Shown is a work as documents have it. Its machine is there once it is Whole.
type Shown struct {
	*Work
	// Machine is what is wanted; nil for a stray.
	Machine *machine.Machine `json:"machine,omitempty"`
}

// Show is works as documents have them, yet without their machines.
func Show(works []Work) []Shown {
	shown := make([]Shown, len(works))
	for i := range works {
		shown[i].Work = &works[i]
	}
	return shown
}

// Whole is the work with its machine.
func (s *Shown) Whole() any { return &Shown{s.Work, s.Work.Machine()} }

// Rest is a clone of a machine that nothing goes on with.
type Rest struct {
	Identity   uuid.UUID
	Generation int
}

// Reason says why work is needed: a sentence, or a value that differs.
type Reason struct {
	Text  string `json:"text,omitempty"`
	Field string `json:"field,omitempty"`
	From  string `json:"from,omitempty"`
	To    string `json:"to,omitempty"`
	// Restart means that the machine, which runs, is shut down for it and
	// started again.
	Restart bool `json:"restart,omitempty"`
	// MayRestart means that it is, if the site cannot do it while the machine runs.
	MayRestart bool `json:"may_restart,omitempty"`
	// Forbidden means that the row does not allow that.
	Forbidden bool `json:"forbidden,omitempty"`
	// GuestNotUpdated means that the guest, which is told on its first boot, is told nothing
	// of it.
	GuestNotUpdated bool `json:"guest_not_updated,omitempty"`
	// Final is of what was changed at the site and cannot be undone: a disk
	// never shrinks.
	Final bool `json:"final,omitempty"`
}

// String writes `memory 4GiB to 8GiB`, or the sentence.
func (r Reason) String() string {
	if r.Field == "" {
		return r.Text
	}
	text := r.Field + " " + orEmpty(r.From) + " to " + orEmpty(r.To)
	var remarks []string
	for _, remark := range []struct {
		is   bool
		text string
	}{
		{r.Restart && r.Forbidden, "needs a restart, which power: stay-on forbids"},
		{r.Restart && !r.Forbidden, "restarts it"},
		{r.MayRestart && r.Forbidden, "refused if it needs a restart"},
		{r.MayRestart && !r.Forbidden, "may restart it"},
		{r.GuestNotUpdated, "the guest is not reconfigured"},
		{r.Final, "cannot be reverted: a disk cannot shrink"},
	} {
		if remark.is {
			remarks = append(remarks, remark.text)
		}
	}
	if len(remarks) > 0 {
		text += " (" + strings.Join(remarks, "; ") + ")"
	}
	return text
}

func orEmpty(s string) string {
	if s == "" {
		return "(none)"
	}
	return s
}

// Why joins the reasons into one line.
func (w Work) Why() string {
	words := make([]string, len(w.Reasons))
	for i, r := range w.Reasons {
		words[i] = r.String()
	}
	for _, d := range w.Dated {
		words = append(words, "dated: "+d.String())
	}
	for _, d := range w.Drift {
		words = append(words, "changed at the site: "+d.String())
	}
	for _, text := range []string{w.Note, w.LeftOff, w.Refusal} {
		if text != "" {
			words = append(words, text)
		}
	}
	return strings.Join(words, "; ")
}

// Enrol makes the work one that also changes the entries of a made machine in the systems around it.
func (w *Work) Enrol(why Reason) {
	if w.Word == Dated {
		w.Dated, w.Reasons = w.Reasons, nil
	}
	w.Word = Adjust
	if !w.Changes("enrol") {
		w.Reasons = append(slices.Clone(w.Reasons), why)
	}
}

// Restarts reports whether the machine is shut down and started again, or may be.
func (w Work) Restarts() bool {
	return slices.ContainsFunc(w.Reasons, func(r Reason) bool { return (r.Restart || r.MayRestart) && !r.Forbidden })
}

// Changes reports whether a column's value is among the reasons, for whichever
// adapter.
func (w Work) Changes(column string) bool {
	return slices.ContainsFunc(w.Reasons, func(r Reason) bool {
		return r.Field == column || strings.HasPrefix(r.Field, column+".")
	})
}

// Proof is the work of a whole batch, in the order of the sheet; strays come last.
type Proof struct {
	Works []Work
}

// Count reports how many machines have work of a kind.
func (p Proof) Count(w Word) int {
	n := 0
	for i := range p.Works {
		if p.Works[i].Word == w {
			n++
		}
	}
	return n
}
