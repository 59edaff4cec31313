package request

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/mail"
	"mintbatch/internal/core/pattern"
	"mintbatch/internal/core/request"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
)

// warnings is the source of letters that nobody has asked for.
const warnings = "warnings"

// warn writes to owners whose address the ledger has, once for each date, that their machines are near it.
func (r *round) warn(ctx context.Context) error {
	within := r.desk.Setup.Requests.Warn
	if within == 0 || r.desk.Setup.Requests.Mail.Server.URL == nil {
		return nil
	}
	known, err := r.desk.Ledger.Machines(ctx)
	if err != nil {
		return err
	}
	today := time.Date(r.now.Year(), r.now.Month(), r.now.Day(), 0, 0, 0, 0, time.UTC)
	due := map[[2]string][]machine.Key{} // by owner and date
	for _, k := range known {
		info := k.Info
		last, err := time.Parse(time.DateOnly, info.Until)
		if owner := strings.ToLower(info.Owner); err == nil && setup.IsAddress(owner) && !last.Before(today) && last.Sub(today) <= within {
			of := [2]string{owner, info.Until}
			due[of] = append(due[of], k.Key)
		}
	}
	for _, of := range slices.SortedFunc(maps.Keys(due), func(a, b [2]string) int { return strings.Compare(a[0]+a[1], b[0]+b[1]) }) {
		if err := r.warnOwner(ctx, of[0], of[1], due[of]); err != nil && !errors.Is(err, ledger.ErrRequestChanged) {
			return err
		}
	}
	return nil
}

// Warn writes to owners whose machines are near their date, once for each date, where the setup wants that.
func (o *Office) Warn(ctx context.Context) error {
	r, err := o.begin(ctx)
	if err != nil {
		return err
	}
	defer r.desk.Close()
	if r.desk.Setup.Requests.Warn == 0 {
		return nil
	}
	return errors.Join(r.warn(ctx), r.deliver(ctx))
}

func (r *round) warnOwner(ctx context.Context, owner, until string, due []machine.Key) error {
	one := request.Request{Source: warnings, Origin: until, Sender: owner, Received: r.now.UTC(), State: request.Warned, Machines: due}
	names := one.Names()
	one.ID = request.ID(warnings, owner+" "+until, []byte(strings.Join(names, "\n")))
	switch known, err := r.desk.Ledger.Request(ctx, one.ID); {
	case err == nil && known.Changed > 0:
		return nil // they were
	case err != nil && !errors.Is(err, ledger.ErrNoRequest):
		return err
	}
	told := request.Told{Title: fmt.Sprintf("%s until %s", finding.Plural(len(names), "machine"), until), Headings: []string{"machines"}, Rows: [][]string{{strings.Join(machine.NameRanges(names), " ")}},
		Paragraphs: []string{fmt.Sprintf("%s is the last day on which these machines are needed, by what was said. They may be shut down after it.", until)}}
	if most := r.desk.Setup.Requests.Extend; most > 0 {
		told.After = []string{fmt.Sprintf("If they are needed longer, answer with \"extend to DATE\" in the first line, such as: extend to %s. The latest day is %s.", last(r.now, most), last(r.now, most))}
	}
	letter, err := r.letter(one, told, request.Warning, []string{owner})
	if err != nil {
		return err
	}
	one.Code = request.CodeDigest(letter.Token) // who answers has got it
	if err := r.desk.Ledger.AddRequest(ctx, one, nil); err != nil {
		return err
	}
	r.Told(fmt.Sprintf("%s is warned: %s until %s", owner, strings.Join(machine.NameRanges(names), " "), until))
	return r.desk.Ledger.ChangeRequest(ctx, one, letter)
}

// last is the last day that somebody may extend to by mail.
func last(now time.Time, most time.Duration) string { return now.Add(most).Format(time.DateOnly) }

var extendTo = pattern.Lazy(`(?i)^extend to:? ([0-9]{4}-[0-9]{2}-[0-9]{2})\.?$`)

// extendByMail takes the word of an owner who answers a warning.
func (r *round) extendByMail(ctx context.Context, m *mail.Message) (taken bool, err error) {
	said := extendTo().FindStringSubmatch(m.FirstLine())
	if said == nil || r.desk.Setup.Requests.Extend == 0 {
		return false, nil
	}
	one, found, err := r.warned(ctx, m)
	if err != nil || !found {
		return false, err
	}
	date := said[1]
	if n := len(one.Thread); n > 0 && one.Thread[n-1] == m.ID {
		return true, nil // it was answered
	}
	one.Thread, one.Subject = append(m.References, m.ID), m.Subject
	day, err := time.Parse(time.DateOnly, date)
	latest := last(r.now, r.desk.Setup.Requests.Extend)
	if err != nil || date > latest || day.Before(r.now.AddDate(0, 0, -1)) {
		told := request.Told{Title: "Not extended", Paragraphs: []string{fmt.Sprintf("%s is no day that you may extend to; the latest one is %s. Nothing was changed.", date, latest)}}
		return true, r.answer(ctx, one, told, request.NotExtended)
	}
	failed, err := r.extend(ctx, one.Names(), date)
	if err != nil {
		return false, err
	}
	told := request.Told{Title: "Extended to " + date, Paragraphs: []string{fmt.Sprintf("%s: until %s.", strings.Join(machine.NameRanges(one.Names()), " "), date)}}
	if len(failed) > 0 {
		told = request.Told{Title: "Not all could be extended", Paragraphs: []string{"The administrator has been told."}}
		r.Told(fmt.Sprintf("%s could not extend %s to %s: %s", one.Sender, strings.Join(one.Names(), " "), date, strings.Join(failed, "; ")))
	} else {
		r.Told(fmt.Sprintf("%s extends %s to %s", one.Sender, strings.Join(machine.NameRanges(one.Names()), " "), date))
	}
	return true, r.answer(ctx, one, told, request.Extended)
}

// answer answers an owner. It is no matter if somebody else has done so meanwhile.
func (r *round) answer(ctx context.Context, one request.Request, told request.Told, kind request.Kind) error {
	letter, err := r.letter(one, told, kind, []string{one.Sender})
	if err != nil {
		return err
	}
	if err := r.desk.Ledger.ChangeRequest(ctx, one, letter); !errors.Is(err, ledger.ErrRequestChanged) {
		return err
	}
	return nil
}

// warned finds the warning that its owner answers: the answer names its message, whose id nobody else has seen.
func (r *round) warned(ctx context.Context, m *mail.Message) (request.Request, bool, error) {
	for _, reference := range m.References {
		local, _, _ := strings.Cut(reference, "@")
		letter, is := strings.CutSuffix(local, "."+r.desk.Ledger.ID.String())
		id, token, _ := strings.Cut(letter, ".")
		id, _, _ = strings.Cut(id, "-")
		if !is || token == "" {
			continue
		}
		one, err := r.desk.Ledger.Request(ctx, id)
		switch {
		case errors.Is(err, ledger.ErrNoRequest):
		case err != nil:
			return one, false, err
		case one.State == request.Warned && one.Code == request.CodeDigest(token) && one.Sender == m.From:
			return one, true, nil
		}
	}
	return request.Request{}, false, nil
}

// extend gives machines another date, by a run of its own, and says which of them could not have it.
func (r *round) extend(ctx context.Context, names []string, date string) (failed []string, err error) {
	own, err := r.begin(ctx) // whose lock ends with it
	if err != nil {
		return nil, err
	}
	defer own.desk.Close()
	d := own.desk
	if err := d.Lock(ctx, r.Stop, r.Console, "extend", mint.Named(names)); err != nil {
		return nil, err
	}
	known, err := d.Ledger.MachinesNamed(ctx, names)
	if err != nil {
		return nil, err
	}
	var there []string
	for _, k := range known {
		there = append(there, k.Name)
	}
	for _, name := range names {
		if !slices.Contains(there, name) {
			failed = append(failed, name+": it was retired")
		}
	}
	if len(there) == 0 {
		return failed, nil
	}
	task, err := d.Extending(ctx, there, mint.Dates{Until: date}, mint.Order{})
	if errors.Is(err, mint.ErrExtend) {
		return append(failed, err.Error()), nil
	}
	if err != nil {
		return nil, err
	}
	o, err := d.Perform(ctx, r.Stop, r.Console, task, mint.Question{})
	var incomplete *mint.Incomplete
	if err != nil && !errors.As(err, &incomplete) || o == nil {
		return nil, err
	}
	for _, result := range o.Results {
		if result.Err != nil {
			failed = append(failed, fmt.Sprintf("%s: %s", result.Name, result.Err))
		}
	}
	for _, w := range o.Refused {
		failed = append(failed, fmt.Sprintf("%s: %s", w.Name, w.Why()))
	}
	return failed, nil
}
