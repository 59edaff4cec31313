package request

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/mail"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/request"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
	"mintbatch/internal/input"
	"mintbatch/internal/mint"
	"mintbatch/internal/plan"
	"mintbatch/internal/report"
)

// look checks the sheet of a request that is new, and answers with what is wrong or with what would be made.
func (r *round) look(ctx context.Context, one request.Request) error {
	if one.Rule == "" {
		return r.turnAway(ctx, one)
	}
	content, err := r.desk.Ledger.RequestSheet(ctx, one.ID)
	if err != nil {
		return err
	}
	if one.Why != "" {
		found := finding.List{{Code: "too-large", At: finding.Position{File: one.Sheet}, Message: one.Why, Hint: "send less"}}
		return r.refuse(ctx, one, content, found)
	}
	p, err := r.prove(ctx, one, content)
	var refused *input.Refused
	if errors.As(err, &refused) {
		return r.refuse(ctx, one, content, refused.Findings)
	}
	if err != nil {
		return err
	}
	rule, _ := r.rule(one)
	return r.propose(ctx, one, p, len(p.works) <= rule.Free)
}

// turnAway answers a sheet that no rule is for.
func (r *round) turnAway(ctx context.Context, one request.Request) error {
	one.State, one.Why = request.Refused, "no rule is for it"
	letter, err := r.letter(one, request.Told{Title: one.Sheet + ": refused", Paragraphs: []string{r.desk.Setup.Requests.Others}}, request.Refusal, r.to(one))
	if err != nil {
		return err
	}
	return r.change(ctx, one, letter)
}

// proven is what a request would make.
type proven struct {
	works  []proof.Work
	digest string
	begun  bool     // some of it was, by runs of the request
	after  []string // remarks
}

// prove computes what a request would make. What is wrong with it is an *input.Refused.
func (r *round) prove(ctx context.Context, one request.Request, content []byte) (*proven, error) {
	d, err := r.open(ctx, one, content)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	p, err := d.Make(ctx, plan.Request{Names: namesOf(d), Contact: plan.Online})
	if err != nil {
		return nil, err
	}
	return r.proofOf(ctx, d, one, p)
}

// proofOf is what a plan of a request's machines would make.
func (r *round) proofOf(ctx context.Context, d *mint.Desk, one request.Request, p *plan.Plan) (*proven, error) {
	ours, err := ownMachines(ctx, d, one)
	if err != nil {
		return nil, err
	}
	found, err := others(ctx, d, ours, p.Works)
	if err != nil {
		return nil, err
	}
	if found.Failed() {
		return nil, &input.Refused{Findings: found}
	}
	out := &proven{works: p.Works, begun: len(ours) > 0}
	type asked struct {
		Key  machine.Key
		Word proof.Word
		Spec string
	}
	var digest []asked
	for _, w := range p.Works {
		digest = append(digest, asked{w.Key, w.Word, w.Machine().Fingerprint()})
	}
	out.digest = machine.Digest(digest)
	for _, t := range p.Quotas() {
		if t.Proof > 0 {
			name := t.Rule
			if t.Share != "" {
				name += " (" + t.Share + ")"
			}
			out.after = append(out.after, fmt.Sprintf("Quota %s: %s in use, %s with this request, of %s.", name, t.Resource.InWords(t.Used), t.Resource.InWords(t.Used+t.Proof), t.Resource.InWords(t.Limit)))
		}
	}
	if takes, known := p.Estimate(p.Works); known {
		out.after = append(out.after, fmt.Sprintf("Making them takes about %s, from earlier runs.", max(takes.Round(time.Second), time.Second)))
	}
	return out, nil
}

// others tells which machines are not this request's to make: they are there, and its own runs have not made them.
func others(ctx context.Context, d *mint.Desk, ours map[machine.Key]bool, works []proof.Work) (found finding.List, err error) {
	known, err := d.Ledger.MachinesNamed(ctx, namesOf(d))
	if err != nil {
		return nil, err
	}
	there := map[machine.Key]bool{}
	for _, k := range known {
		there[k.Key] = true
	}
	for _, w := range works {
		why := ""
		if proof.Outdated(w.Why()) { // of which no sender knows anything
			return nil, fmt.Errorf("machine %s: %s", w.Name, w.Why())
		}
		switch {
		case there[w.Key] && !ours[w.Key]:
			why = fmt.Sprintf("there is a machine %s already", w.Name)
		case w.Word == proof.Taken || w.Refusal != "":
			why = fmt.Sprintf("machine %s: %s", w.Name, w.Why())
		}
		if why != "" {
			found.Add(finding.Finding{Code: "not-allowed", At: at(d, w.Key), Value: w.Name, Message: why, Hint: "choose another name; requests only make machines that are not there yet"})
		}
	}
	return found, nil
}

// ownMachines are those that runs of a request have begun, or had by their marks, and that were not retired since.
func ownMachines(ctx context.Context, d *mint.Desk, one request.Request) (map[machine.Key]bool, error) {
	runs, err := d.Ledger.Runs(ctx)
	if err != nil {
		return nil, err
	}
	own := map[string]bool{}
	for _, r := range runs {
		own[r.ID] = r.Command == request.Command(one.ID)
	}
	events, err := d.Ledger.History(ctx, namesOf(d)...)
	ours := map[machine.Key]bool{}
	for _, e := range events {
		switch {
		case e.What == "retired":
			delete(ours, e.Key)
		case e.What == "begun" && own[e.Run], e.What == "restored" && e.Detail == request.Command(one.ID):
			ours[e.Key] = true
		}
	}
	return ours, err
}

// at is where the name of a machine stands.
func at(d *mint.Desk, key machine.Key) finding.Position {
	for _, w := range d.Wanted {
		if w.Key == key {
			return w.Origin("machine").At
		}
	}
	return finding.Position{File: d.Table.File}
}

func namesOf(d *mint.Desk) []string {
	names := make([]string, len(d.Wanted))
	for i, w := range d.Wanted {
		names[i] = w.Name
	}
	return names
}

// refuse tells the sender what is wrong.
func (r *round) refuse(ctx context.Context, one request.Request, content []byte, found finding.List) error {
	one.State, one.Why = request.Faulty, finding.Plural(found.Count(finding.Error), "error")
	var files []request.File
	table, _ := sheet.Read(sheet.Source{Name: one.Sheet, Content: content, Expanded: mail.MostExpanded, Rules: r.desk.Setup.Rules()})
	if copied, err := report.Annotated(content, table, found); err == nil { // else the letter says all of it
		files = append(files, request.File{Name: stem(one.Sheet) + "-findings.xlsx", Content: copied})
	}
	told := request.FoundWrong(one, found)
	for _, f := range files {
		told.After = append(told.After, f.Name+" is the sheet with a comment at each of these cells.")
	}
	letter, err := r.letter(one, told, request.Findings, r.to(one), files...)
	if err != nil {
		return err
	}
	return r.change(ctx, one, letter)
}

// stem is the name of a sheet without its ending.
func stem(name string) string { return strings.TrimSuffix(filepath.Base(name), filepath.Ext(name)) }

// to are the addresses of who has sent a request; without one, or a mail server, nobody is written to.
func (r *round) to(one request.Request) []string {
	if setup.IsAddress(one.Sender) && r.desk.Setup.Requests.Mail.Server.URL != nil {
		return []string{one.Sender}
	}
	return nil
}

// propose shows what would be made; if nobody needs to approve it, it is approved.
func (r *round) propose(ctx context.Context, one request.Request, p *proven, free bool) error {
	again := one.Proof != ""
	one.State, one.Proof, one.Asked, one.Machines, one.Why = request.Waiting, p.digest, r.now.UTC(), nil, ""
	for _, w := range p.works {
		one.Machines = append(one.Machines, w.Key)
	}
	told := request.Proposed(one, p.works, p.after)
	if free {
		one.State, one.By = request.Approved, "rule "+one.Rule
		told.Paragraphs = []string{"They are being made now."}
	} else {
		told.Paragraphs = []string{"They are made once somebody has approved this."}
	}
	if again {
		told.Paragraphs = append([]string{"This is not what was shown before: something has changed meanwhile."}, told.Paragraphs...)
	}
	letter, err := r.letter(one, told, request.Proposal, r.to(one))
	if err != nil {
		return err
	}
	letters := []request.Letter{letter}
	if !free {
		asked, err := r.ask(&one, told, request.Question)
		if err != nil {
			return err
		}
		letters = append(letters, asked...)
	}
	return r.change(ctx, one, letters...)
}

// ask writes to the approvers of a request, if it has some, with a new code; earlier ones count no more.
func (r *round) ask(one *request.Request, told request.Told, kind request.Kind) ([]request.Letter, error) {
	rule, _ := r.rule(*one)
	if len(rule.Approvers) == 0 {
		return nil, nil
	}
	code := rand.Text()[:8]
	one.Code = request.CodeDigest(code)
	told.Title = fmt.Sprintf("Request of %s: %s", one.Sender, told.Title)
	told.Paragraphs = []string{fmt.Sprintf("To let them be made, answer with the code %s-%s alone in the first line. To refuse, answer with no, the code, and if you like why.", code[:4], code[4:]),
		"The code is for what is listed here. If something else would be made by then, you are asked again."}
	asked, err := r.letter(*one, told, kind, rule.Approvers)
	return []request.Letter{asked}, err
}

// remind closes a request that nobody has decided on for too long.
func (r *round) remind(ctx context.Context, one request.Request) error {
	rule, known := r.rule(one)
	if !known {
		return fmt.Errorf("the setup has no rule %s any more", one.Rule)
	}
	silent := r.now.Sub(one.Asked)
	switch {
	case silent >= rule.Expires():
		one.State, one.Why = request.Expired, fmt.Sprintf("nobody has decided on it for %s", days(silent))
		told := request.Told{Title: one.Sheet + ": closed", Paragraphs: []string{"Nothing was made: " + one.Why + ". Send the sheet again if it is still wanted."}}
		letter, err := r.letter(one, told, request.Closed, r.to(one))
		if err != nil {
			return err
		}
		return r.change(ctx, one, letter)
	case silent >= rule.Reminds() && one.Reminded.Before(one.Asked):
		r.Told(fmt.Sprintf("request %s (%s) has been waiting for %s: mintbatch request show %s", one.ID, one.Sheet, days(silent), one.ID))
		return r.askAgain(ctx, one)
	}
	return nil
}

// askAgain reminds the approvers, with what would be made by now.
func (r *round) askAgain(ctx context.Context, one request.Request) error {
	content, err := r.desk.Ledger.RequestSheet(ctx, one.ID)
	if err != nil {
		return err
	}
	p, err := r.prove(ctx, one, content)
	var refused *input.Refused
	if errors.As(err, &refused) {
		return r.refuse(ctx, one, content, refused.Findings)
	}
	if err != nil {
		return err
	}
	one.Proof, one.Reminded = p.digest, r.now.UTC()
	letters, err := r.ask(&one, request.Proposed(one, p.works, p.after), request.Reminder)
	if err != nil {
		return err
	}
	return r.desk.Ledger.ChangeRequest(ctx, one, letters...)
}

func days(d time.Duration) string { return finding.Plural(int(d.Hours()/24), "day") }
