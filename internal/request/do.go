package request

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"strings"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/request"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/handover"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/plan"
)

// do makes the machines of a request that was approved, and tells what came of it. Interrupted, or where a site does not answer, a
// later round goes on.
func (r *round) do(ctx context.Context, one request.Request) error {
	content, err := r.desk.Ledger.RequestSheet(ctx, one.ID)
	if err != nil {
		return err
	}
	d, err := r.open(ctx, one, content)
	var refused *input.Refused
	if errors.As(err, &refused) { // the setup has changed
		return r.refuse(ctx, one, content, refused.Findings)
	}
	if err != nil {
		return err
	}
	defer d.Close()
	names := namesOf(d)
	if err := d.Lock(ctx, r.Stop, r.Console, request.Command(one.ID), mint.Named(names)); err != nil {
		return err
	}
	// Another may have gone on with it while this one waited.
	if current, err := d.Ledger.Request(ctx, one.ID); err != nil || current.Changed != one.Changed {
		return errors.Join(err, ledger.ErrRequestChanged)
	}
	p, err := d.Make(ctx, plan.Request{Names: names, Contact: plan.Online})
	if errors.As(err, &refused) {
		return r.refuse(ctx, one, content, refused.Findings)
	}
	if err != nil {
		return err
	}
	is, err := r.proofOf(ctx, d, one, p)
	if errors.As(err, &refused) {
		return r.refuse(ctx, one, content, refused.Findings)
	}
	if err != nil {
		return err
	}
	if !is.begun && is.digest != one.Proof { // it is not what was approved
		rule, _ := r.rule(one)
		return r.propose(ctx, one, is, len(is.works) <= rule.Free)
	}
	task, err := d.Minting(ctx, request.Command(one.ID), p, plan.RefuseRemakes, mint.Order{Waves: d.Setup.Limits.Waves, Window: d.Setup.Limits.Restarts})
	if err != nil {
		return err
	}
	o, err := d.Perform(ctx, r.Stop, r.Console, task, mint.Question{})
	var incomplete *mint.Incomplete
	switch {
	case o == nil:
		return err
	case r.Stop.Err() != nil || ctx.Err() != nil:
		return err // it is gone on with
	case err != nil && !errors.As(err, &incomplete):
		return err
	}
	one.Run = cmp.Or(o.Run, one.Run)
	if incomplete != nil {
		return r.tellFailure(ctx, one, o)
	}
	return r.tellDone(ctx, d, one, content, p.Proof)
}

// tellDone tells the sender what was made.
func (r *round) tellDone(ctx context.Context, d *mint.Desk, one request.Request, content []byte, p proof.Proof) error {
	one.State, one.Why = request.Done, ""
	entries, _, err := d.List(ctx, mint.ListRequest{Names: one.Names(), Contact: plan.Online})
	if err != nil {
		return err
	}
	told := request.Told{Title: fmt.Sprintf("%s: %s made", one.Sheet, finding.Plural(len(entries), "machine")), Headings: []string{"machine", "site", "address", "log in by", "host key", "until"}}
	for _, e := range entries {
		login := ""
		if e.Spec.Guest.Login != "" && e.Address() != "" {
			login = "ssh " + e.Spec.Guest.Login + "@" + e.Address()
		}
		told.Rows = append(told.Rows, []string{e.Name, e.Site, e.Address(), login, e.HostKey, e.Spec.Info.Until})
	}
	var files []request.File
	if page, err := handover.OwnPage(d, told.Title, entries); err == nil {
		files = append(files, request.File{Name: stem(one.Sheet) + "-machines.html", Content: page})
	}
	name := stem(one.Sheet) + "-made.xlsx"
	if strings.HasSuffix(strings.ToLower(one.Sheet), ".ods") {
		name = stem(one.Sheet) + "-made.ods"
	}
	if copied, err := handover.Workbook(d, content, name, p, entries); err == nil { // of other kinds of sheets there is none
		files = append(files, request.File{Name: name, Content: copied})
	}
	sealed, err := r.passwords(ctx, d, one)
	switch {
	case err != nil:
		r.Told(fmt.Sprintf("request %s: the passwords cannot be sealed to %s: %s", one.ID, one.Sender, err))
		told.After = append(told.After, "The administrator has the passwords.")
	case sealed != "":
		files = append(files, request.File{Name: stem(one.Sheet) + "-passwords.csv.age", Content: []byte(sealed)})
		told.After = append(told.After, fmt.Sprintf("The passwords are in %s-passwords.csv.age, which your key opens: age --decrypt --identity KEY FILE", stem(one.Sheet)))
	}
	letter, err := r.letter(one, told, request.Confirmed, r.to(one), files...)
	if err != nil {
		return err
	}
	return r.change(ctx, one, letter)
}

// tellFailure tells the sender in plain words that not all was made, and the administrator why.
func (r *round) tellFailure(ctx context.Context, one request.Request, o *mint.Outcome) error {
	var failed []string
	for _, result := range o.Results {
		if result.Err != nil {
			failed = append(failed, fmt.Sprintf("%s at %s: %s", result.Name, result.Step, result.Err))
		}
	}
	for _, w := range o.Refused {
		failed = append(failed, fmt.Sprintf("%s: %s", w.Name, w.Why()))
	}
	one.State, one.Why = request.Failed, fmt.Sprintf("%s (run %s)", strings.Join(failed, "; "), o.Run)
	told := request.Told{Title: fmt.Sprintf("%s: %d of %s could not be made yet", one.Sheet, len(failed), finding.Plural(len(one.Machines), "machine")),
		Paragraphs: []string{"The administrator has been told, and goes on with it. Nothing needs to be sent again."}}
	letter, err := r.letter(one, told, request.Failure, r.to(one))
	if err != nil {
		return err
	}
	letters := []request.Letter{letter}
	if to := r.desk.Setup.Requests.Administrators; len(to) > 0 {
		told := request.Told{Title: fmt.Sprintf("Request %s of %s: %d of %s failed", one.ID, one.Sender, len(failed), finding.Plural(len(one.Machines), "machine")), Headings: []string{"failed"},
			Paragraphs: []string{fmt.Sprintf("Run %s. To try again once the cause is gone: mintbatch request approve %s", o.Run, one.ID)}}
		for _, f := range failed {
			told.Rows = append(told.Rows, []string{f})
		}
		cause, err := r.letter(one, told, request.Cause, to)
		if err != nil {
			return err
		}
		letters = append(letters, cause)
	}
	return r.change(ctx, one, letters...)
}

// passwords are those of a request's machines, sealed to its sender; empty where the rule does not send them, or there are none.
func (r *round) passwords(ctx context.Context, d *mint.Desk, one request.Request) (string, error) {
	if rule, _ := r.rule(one); rule.Passwords != setup.SealedPasswords {
		return "", nil
	}
	key, known := r.desk.Setup.Requests.KeyOf(one.Sender)
	if !known {
		return "", errors.New("the setup has no key of them")
	}
	all, err := d.Vault.Credentials(ctx, one.Names())
	if err != nil || len(all) == 0 {
		return "", err
	}
	var text strings.Builder
	w := csv.NewWriter(&text)
	_ = w.Write([]string{"machine", "site", "login", "password"})
	for _, c := range all {
		_ = w.Write([]string{c.Name, c.Site, c.Login, c.Password})
	}
	w.Flush()
	return key.Seal(text.String())
}
