// Package plan works out what a run would do: the work, the addresses, the places, and
// how long it takes.
package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/around"
	"mintbatch/internal/core/address"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/sequence"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
	"mintbatch/internal/sites"
)

// Planner makes plans.
type Planner struct {
	*input.Batch
	Ledger *ledger.Ledger
	Sites  *sites.Sites
	Around *around.Systems
}

// Contact says whether sites are contacted.
type Contact bool

// Whether they are. Offline, they are taken to have what the ledger says.
const (
	Online  Contact = true
	Offline Contact = false
)

// Missing says what is made of machines that their site does not list.
type Missing bool

// Of many that are missing at once, the site is not believed, unless they are accepted as
// deleted.
const (
	DoubtMissing  Missing = false
	AcceptMissing Missing = true
)

// Request says what to plan.
type Request struct {
	Names   []string // and globs, as glob.Keys has them; none means all
	Contact Contact
	Missing Missing
	// Remake clones machines again that are there, but for those that the same command
	// has cloned again already before it was interrupted.
	Remake bool
	// Coming are templates that sites will have once they were fetched.
	Coming map[string][]contract.Template
	// Entries says whether entries of made machines in the systems around them are looked at.
	Entries Entries
	// Data says what becomes of their data disks.
	Data proof.DataDisks
}

// Entries says whether the ledger is believed about entries in the systems around machines.
type Entries bool

// Whether it is.
const (
	TrustEntries Entries = false
	LookEntries  Entries = true
)

// Plan is what a run would do, and all that it needs to do so.
type Plan struct {
	proof.Proof
	// Warnings are those of setup and sheet, and what the sites have added.
	Warnings finding.List
	// Reserved are the addresses of each machine; a plan that nobody follows never lists them.
	Reserved func() map[machine.Key][]ledger.Reservation

	batch *input.Batch
	held  []ledger.Reservation // what was held before
	pace  pace

	quotas   *Quotas
	sequence *sequence.Sequence
	made     map[machine.Key]bool
}

// Make makes a plan.
func (p *Planner) Make(ctx context.Context, r Request) (*Plan, error) {
	known, err := p.Ledger.Machines(ctx)
	if err != nil {
		return nil, err
	}
	keep, err := p.Matcher(r.Names, known)
	if err != nil {
		return nil, err
	}
	var asked, others sites.Surveys
	if r.Contact == Online {
		if asked, err = p.survey(ctx, known, keep); err != nil {
			return nil, err
		}
		addComing(asked, r.Coming)
		others = p.surveyOthers(ctx, known, keep, asked)
		if err := p.addSources(ctx, asked); err != nil {
			return nil, err
		}
	}
	plan, err := p.Compare(ctx, known, asked, others, r.Missing, keep)
	if err != nil {
		return nil, err
	}
	if r.Remake {
		if plan.Proof, err = p.remade(ctx, plan.Proof, r.Data); err != nil {
			return nil, err
		}
	}
	awaitSources(plan.Works)
	if err := p.examine(ctx, plan, r.Missing, known, asked, others); err != nil {
		return nil, err
	}
	if err := p.around(ctx, plan, known, r); err != nil {
		return nil, err
	}
	if plan.changes() > 0 {
		if plan.pace, err = p.learn(ctx, known, asked); err != nil {
			return nil, err
		}
	}
	plan.Proof, err = p.place(asked, known, plan.Proof)
	return plan, err
}

func (p *Planner) remade(ctx context.Context, from proof.Proof, data proof.DataDisks) (proof.Proof, error) {
	var keys []machine.Key
	for _, w := range from.Works {
		keys = append(keys, w.Key)
	}
	finished, err := p.Ledger.Finished(ctx, "remake", keys)
	remade := from.Remade(p.Ledger.ID, finished, data)
	for i, w := range remade.Works {
		if w.Word == proof.Remake && len(w.Data) > 0 && p.Setup.Sites[w.Site].Kind == setup.Folder {
			remade.Works[i].Refusal = "a folder cannot give its data disks to another clone; remake it without --keep-data"
		}
	}
	return remade, err
}

// examine refuses a plan that cannot work out, and adds what there is to be warned of.
func (p *Planner) examine(ctx context.Context, plan *Plan, missing Missing, known []ledger.Machine, asked, others sites.Surveys) error {
	copies, err := p.otherCopies(ctx, known, asked)
	if err != nil {
		return err
	}
	plan.Warnings = slices.Concat(plan.Warnings, p.Findings, p.taken(plan.Proof)).Sorted()
	plan.Warnings = slices.Concat(plan.Warnings, p.HostsDown(asked), p.DoubtWarnings(p.Doubts(known, asked, missing)), p.silent(asked, others), copies)
	if err := p.refuse(p.sealedMissing(ctx, plan.Proof)); err != nil {
		return err
	}
	inspected, err := p.Ledger.Inspections(ctx)
	if err != nil {
		return err
	}
	found, warnings := p.notAtSite(asked, inspected, plan.Proof)
	plan.Warnings = append(plan.Warnings, warnings...)
	return p.refuse(found, nil)
}

// refuse makes findings that are errors one error, together with those of the sheet.
func (p *Planner) refuse(found finding.List, err error) error {
	if err == nil && found.Failed() {
		return &input.Refused{Findings: append(slices.Clone(p.Findings), found...).Sorted()}
	}
	return err
}

// Remakes says whether machines may be cloned again.
type Remakes bool

// Whether they may.
const (
	AllowRemakes  Remakes = true
	RefuseRemakes Remakes = false
)

// Todo splits the plan into the work to do and the machines to leave alone.
func (p *Plan) Todo(remakes Remakes) (todo, refused []proof.Work) {
	todo = make([]proof.Work, 0, p.changes())
	for _, w := range p.Works {
		switch {
		case w.Word == proof.Stray:
		case w.Refusal != "", w.Word == proof.Taken, w.Word == proof.Remake && !bool(remakes), w.Forbidden():
			refused = append(refused, w)
		case w.Word == proof.New, w.Word == proof.Adjust, w.Word == proof.Remake:
			todo = append(todo, w)
		}
	}
	return todo, refused
}

// changes is how many machines are made or changed, if nothing stands against it.
func (p *Plan) changes() int {
	return p.Count(proof.New) + p.Count(proof.Adjust) + p.Count(proof.Remake)
}

// RevertDrift is the plan that also reverts what was changed at the sites.
func (p *Plan) RevertDrift() *Plan {
	reverting := *p
	reverting.Proof = p.Proof.RevertDrift()
	return &reverting
}

// Reserve keeps the addresses of the machines that are new. It returns how many these
// are. The ledger must have been held since before the plan was made.
func (p *Plan) Reserve(ctx context.Context, l *ledger.Ledger) (machines int, err error) {
	for _, w := range p.Works {
		reserved := slices.Clone(p.Reserved()[w.Key])
		if w.Word != proof.New || len(reserved) == 0 {
			continue
		}
		for i := range reserved {
			reserved[i].Standing = address.Reserved
		}
		if err := l.Reserve(ctx, w.Key, reserved); err != nil {
			return machines, err
		}
		machines++
	}
	return machines, nil
}

// taken warns, at its cell, of every name that a site has already.
func (p *Planner) taken(of proof.Proof) (found finding.List) {
	taken := map[machine.Key]string{}
	for _, w := range of.Works {
		if w.Word == proof.Taken {
			taken[w.Key] = w.Why()
		}
	}
	for _, w := range p.Wanted {
		if why, ok := taken[w.Key]; ok {
			hint := "choose another name; the existing machine is left unchanged"
			switch {
			case proof.Outdated(why):
				hint = "update this ledger; the existing machine is left unchanged"
			case !strings.Contains(why, "ledger"): // it is this ledger's
				hint = "the existing machine is left unchanged"
			}
			found.Add(finding.Finding{Severity: finding.Warning, Code: "name-taken", At: w.Origin("machine").At, Value: w.Name,
				Message: fmt.Sprintf("machine %s at site %s: %s", w.Name, w.Site, why), Hint: hint})
		}
	}
	return found
}

// Matcher turns names and globs into a filter of the machines of sheet and ledger. One
// that matches no machine is refused: it was meant to.
func (p *Planner) Matcher(globs []string, known []ledger.Machine) (func(machine.Key) bool, error) {
	if len(globs) == 0 { // there may be many
		return glob.Keys(nil), nil
	}
	var all []machine.Key
	for _, w := range p.Wanted {
		all = append(all, w.Key)
	}
	for _, k := range known {
		all = append(all, k.Key)
	}
	return glob.KeyMatcher(globs, all, "sheet or ledger")
}
