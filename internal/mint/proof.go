package mint

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/sheet"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/ledger"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
)

// Session is a batch with its ledger and sites at hand.
type Session struct {
	*Batch
	Ledger *ledger.Ledger
	Log    *slog.Logger

	// Warnings are those of setup and sheet, and what a proof has added.
	Warnings finding.List

	mu       sync.Mutex
	sites    map[string]site.Site // those opened so far
	reserved map[machine.Key][]ledger.Reservation
	held     []ledger.Reservation // what was held before
	paced    run.Pace
	learnt   bool       // the pace is that of earlier runs
	claimed  ledger.Run // the run that Claim has started
}

// Open reads setup and sheet and opens the ledger. The caller closes it.
func Open(ctx context.Context, in Input, log *slog.Logger) (*Session, error) {
	b, err := load(in)
	if err != nil {
		return nil, err
	}
	return b.session(ctx, log)
}

// OpenSetup is Open for what needs no sheet.
func OpenSetup(ctx context.Context, in Input, log *slog.Logger) (*Session, error) {
	b, err := loadSetup(in)
	if err != nil {
		return nil, err
	}
	return b.session(ctx, log)
}

func (b *Batch) session(ctx context.Context, log *slog.Logger) (*Session, error) {
	if b.Findings.Failed() {
		// All findings are wanted, those of the addresses too.
		_, found := batch.Assign(b.Wanted, b.Setup, batch.Past{})
		return nil, &Refused{append(b.Findings, found...).Sorted()}
	}
	l, err := ledger.Open(ctx, b.ledgerPath())
	if err != nil {
		return nil, err
	}
	return &Session{Batch: b, Ledger: l, Log: log, sites: map[string]site.Site{}}, nil
}

// Close lets go of the ledger and of the sites.
func (s *Session) Close() error {
	for _, opened := range s.sites {
		if c, ok := opened.(interface{ Close() }); ok {
			c.Close()
		}
	}
	return s.Ledger.Close()
}

// Proof computes the work for the machines whose names match one of the globs,
// or for all. Offline, no site is asked and the ledger is believed.
func (s *Session) Proof(ctx context.Context, names []string, offline bool) (proof.Proof, error) {
	return s.proof(ctx, names, offline, func(p proof.Proof) proof.Proof { return p })
}

// RemakeProof is Proof with every machine that is there to be cloned again.
func (s *Session) RemakeProof(ctx context.Context, names []string) (proof.Proof, error) {
	return s.proof(ctx, names, false, func(p proof.Proof) proof.Proof { return p.Remade(s.Ledger.ID) })
}

func (s *Session) proof(ctx context.Context, names []string, offline bool, turn func(proof.Proof) proof.Proof) (proof.Proof, error) {
	known, err := s.Ledger.Machines(ctx)
	if err != nil {
		return proof.Proof{}, err
	}
	keep, err := s.matcher(names, known)
	if err != nil {
		return proof.Proof{}, err
	}
	var surveys map[string]*survey.Survey
	if !offline {
		if surveys, err = s.survey(ctx, known, keep); err != nil {
			return proof.Proof{}, err
		}
	}
	p, err := s.compared(ctx, known, surveys, keep)
	if err != nil {
		return p, err
	}
	p = turn(p)
	s.warn(p)
	s.warnOfHosts(surveys)
	if err := s.sealedThere(ctx, p); err != nil {
		return p, err
	}
	if err := s.present(surveys, p); err != nil {
		return p, err
	}
	if todo, _ := Todo(p, true); len(todo) > 0 {
		if err := s.pace(ctx, known, surveys); err != nil {
			return p, err
		}
	}
	return p, s.place(surveys, known, p)
}

// compared gives out the addresses and computes the work. Sites that were not
// asked are taken to have what the ledger says.
func (s *Session) compared(ctx context.Context, known []ledger.Machine, surveys map[string]*survey.Survey, keep func(string) bool) (proof.Proof, error) {
	past, err := pastOf(ctx, s.Ledger, known, s.foreign(surveys))
	if err != nil {
		return proof.Proof{}, err
	}
	reserved, found := batch.Assign(s.Wanted, s.Setup, past)
	if found.Failed() {
		return proof.Proof{}, &Refused{append(s.Findings, found...).Sorted()}
	}
	s.held = past.Held
	s.reserved = map[machine.Key][]ledger.Reservation{}
	for _, r := range reserved {
		key := machine.Key{Site: r.Site, Name: r.Machine}
		s.reserved[key] = append(s.reserved[key], r)
	}
	situation := proof.Situation{Ledger: s.Ledger.ID, Hidden: hidden(known, surveys), Seen: seen(surveys)}
	kept, err := s.Ledger.Kept(ctx)
	if err != nil {
		return proof.Proof{}, err
	}
	situation.Spent = map[machine.Key]int{}
	for _, k := range kept { // by generation
		situation.Spent[k.Key] = k.Generation
	}
	situation.Wanted = make([]*machine.Machine, len(s.Wanted))
	for i, w := range s.Wanted {
		situation.Wanted[i] = &w.Machine
	}
	situation.Known = make([]*proof.Known, len(known))
	for i := range known {
		situation.Known[i] = &known[i].Known
	}
	return proof.Compare(situation, keep), nil
}

// warn tells, at its cell, of every name that a site has already.
func (s *Session) warn(p proof.Proof) {
	s.Warnings = slices.Clone(s.Findings)
	taken := map[machine.Key]string{}
	for _, w := range p.Works {
		if w.Word == proof.Taken {
			taken[w.Key] = w.Why()
		}
	}
	for _, w := range s.Wanted {
		if why, ok := taken[w.Key]; ok {
			s.Warnings.Add(finding.Finding{Severity: finding.Warning, Code: "name-taken", At: w.Origin("machine").At, Value: w.Name,
				Message: fmt.Sprintf("machine %s at site %s: %s", w.Name, w.Site, why), Hint: "choose another name; what is there is left alone"})
		}
	}
	s.Warnings = s.Warnings.Sorted()
}

// sealedThere tells of every sealed value that a machine which is yet to be
// made refers to and the ledger does not have.
func (s *Session) sealedThere(ctx context.Context, p proof.Proof) error {
	has, err := s.Ledger.SealedNames(ctx)
	if err != nil {
		return err
	}
	first := map[string]*machine.Machine{}
	for _, w := range p.Works {
		if w.Word != proof.New && w.Word != proof.Remake {
			continue
		}
		for _, name := range w.Machine.Guest.Sealed() {
			if !slices.Contains(has, name) && first[name] == nil {
				first[name] = w.Machine
			}
		}
	}
	found := finding.List{}
	for _, w := range s.Wanted {
		for _, name := range slices.Sorted(maps.Keys(first)) {
			if first[name].Key != w.Key {
				continue
			}
			found.Add(finding.Finding{Code: "no-secret", At: w.SealedAt(name), Value: name,
				Message: fmt.Sprintf("machine %s needs the sealed value %s, which the ledger does not have", w.Name, name), Hint: "mintbatch secret set " + name})
		}
	}
	if found.Failed() {
		return &Refused{append(s.Findings, found...).Sorted()}
	}
	return nil
}

// survey asks the sites that the machines in question are wanted at or known to
// be at, and no others: one that is down does not stand in the way of the rest.
func (s *Session) survey(ctx context.Context, known []ledger.Machine, keep func(string) bool) (map[string]*survey.Survey, error) {
	names := map[string]bool{}
	for _, w := range s.Wanted {
		if keep(w.Name) {
			names[w.Site] = true
		}
	}
	for _, k := range known {
		if _, defined := s.Setup.Sites[k.Site]; defined && keep(k.Name) {
			names[k.Site] = true
		}
	}
	return s.askAll(ctx, names)
}

// everySite names all sites of the setup.
func (s *Session) everySite() map[string]bool {
	names := map[string]bool{}
	for name := range s.Setup.Sites {
		names[name] = true
	}
	return names
}

// askAll surveys sites side by side. Those that cannot be reached are told in
// the error, in the order of their names; the others are answered for.
func (s *Session) askAll(ctx context.Context, names map[string]bool) (map[string]*survey.Survey, error) {
	order := slices.Sorted(maps.Keys(names))
	answers, failures := make([]*survey.Survey, len(order)), make([]error, len(order))
	var all sync.WaitGroup
	for i, name := range order {
		all.Go(func() { answers[i], failures[i] = s.ask(ctx, name) })
	}
	all.Wait()
	surveys := map[string]*survey.Survey{}
	for i, name := range order {
		if failures[i] == nil {
			surveys[name] = answers[i]
		}
	}
	return surveys, errors.Join(failures...)
}

// ask surveys one site.
func (s *Session) ask(ctx context.Context, name string) (*survey.Survey, error) {
	opened, err := s.site(name)
	if err != nil {
		return nil, err
	}
	answer, err := opened.Survey(ctx)
	if err != nil {
		return nil, fmt.Errorf("site %s: %w", strings.TrimSuffix(name+" at "+s.Setup.Sites[name].URL, " at "), err)
	}
	return answer, nil
}

func seen(surveys map[string]*survey.Survey) map[string][]proof.Seen {
	all := map[string][]proof.Seen{}
	for name, answer := range surveys {
		all[name] = []proof.Seen{}
		for _, m := range answer.Machines {
			one := proof.Seen{Identity: m.ID, Name: m.Name, Power: m.Power, Shape: m.Shape, Adapters: m.Adapters}
			if m.Mark != nil {
				one.Ledger, one.Generation, one.Mark = m.Mark.Ledger, m.Mark.Generation, m.Mark.Mark
			}
			all[name] = append(all[name], one)
		}
	}
	return all
}

// present tells of every name in the sheet that the site which was asked does
// not have, as far as a machine is yet to be cloned: what is made needs its
// template no more.
func (s *Session) present(surveys map[string]*survey.Survey, p proof.Proof) error {
	cloned := map[machine.Key]bool{}
	for _, w := range p.Works {
		if w.Word == proof.New || w.Word == proof.Remake {
			cloned[w.Key] = true
		}
	}
	found := finding.List{}
	told := map[finding.Position]bool{}
	has := map[string]map[string][]string{} // names by site and column
	for name, v := range surveys {
		has[name] = map[string][]string{
			"template": namesOf(v.Templates, func(t survey.Template) string { return t.Name }),
			"host":     namesOf(v.Hosts, func(h survey.Host) string { return h.Name }),
			"store":    namesOf(v.Stores, func(st survey.Store) string { return st.Name }),
			"folder":   v.Folders,
			"network":  v.Networks,
		}
	}
	for _, w := range s.Wanted {
		if surveys[w.Site] == nil || !cloned[w.Key] {
			continue
		}
		missing := func(column string, adapter int, name string) {
			known := has[w.Site][column]
			if name == "" || slices.Contains(known, name) || column == "folder" && surveys[w.Site].Places || column == "network" && survey.Connects(known, name) {
				return
			}
			at := w.Origin(sheet.ColumnID(column, adapter)).At
			if told[at] {
				return
			}
			told[at] = true
			f := finding.Finding{Code: "not-at-site", At: at, Value: name,
				Message: fmt.Sprintf("site %s has no %s %q", w.Site, column, name), Hint: finding.DidYouMean(name, known)}
			if down := surveys[w.Site].Down(); len(down) > 0 && column != "host" {
				// Those that want it will fail; it stands in nobody else's way.
				f.Severity, f.Hint = finding.Warning, "it may be on a host that is down: "+strings.Join(down, ", ")
				s.Warnings.Add(f)
				return
			}
			found.Add(f)
		}
		missing("template", 0, w.Clone.Template)
		s.unusable(surveys[w.Site], w, told, &found)
		missing("host", 0, w.Clone.Host)
		missing("store", 0, w.Clone.Store)
		missing("folder", 0, w.Clone.Folder)
		for i, a := range w.Adapters {
			missing("network", i+1, a.Network)
		}
	}
	if found.Failed() {
		return &Refused{append(s.Findings, found...).Sorted()}
	}
	return nil
}

func namesOf[T any](all []T, name func(T) string) []string {
	names := make([]string, len(all))
	for i, v := range all {
		names[i] = name(v)
	}
	return names
}

// ErrNoMachine means that a name or glob on the command line matches nothing.
var ErrNoMachine = errors.New("no such machine")

// matcher turns names and globs into a filter. One that matches no machine is
// refused: it was meant to.
func (s *Session) matcher(globs []string, known []ledger.Machine) (func(string) bool, error) {
	var all []string
	for _, w := range s.Wanted {
		all = append(all, w.Name)
	}
	for _, k := range known {
		all = append(all, k.Name)
	}
	return Matcher(globs, all)
}

// Matcher makes a filter of names and globs; each must match one of all. No
// glob at all lets everything pass.
func Matcher(globs, all []string) (func(string) bool, error) {
	if len(globs) == 0 {
		return func(string) bool { return true }, nil
	}
	for _, glob := range globs {
		if _, err := path.Match(glob, ""); err != nil {
			return nil, fmt.Errorf("%w: %q is not a name or glob", ErrNoMachine, glob)
		}
		if !slices.ContainsFunc(all, func(name string) bool { return named([]string{glob}, name) }) {
			return nil, fmt.Errorf("%w: %q matches none of sheet and ledger (%s)", ErrNoMachine, glob, finding.DidYouMean(glob, all))
		}
	}
	return func(name string) bool { return named(globs, name) }, nil
}

// named tells whether a name is among names and globs, or there are none.
func named(globs []string, name string) bool {
	return len(globs) == 0 || slices.ContainsFunc(globs, func(glob string) bool {
		ok, _ := path.Match(glob, name)
		return ok
	})
}
