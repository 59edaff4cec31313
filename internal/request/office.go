// Package request holds the use cases of requests: sheets that people send are taken in, answered, decided on, and done.
package request

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/mail"
	"mintbatch/internal/core/request"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
)

// Office takes requests in and goes on with them. All that it knows is in the ledger: it may be ended at any moment, and several
// may share one ledger.
type Office struct {
	// Input has the setups; its sheet is not read.
	Input input.Input
	Log   *slog.Logger // nil for none
	// Told takes a line about each thing that was done, or could not be.
	Told func(string)
	// Console is asked nothing: what is to be done was approved.
	Console mint.Console
	// Opened, if set, is called with each desk that was opened; it lets tests end the process at any write.
	Opened func(*mint.Desk)
	// Stop ends a mint at the next good moment.
	Stop context.Context

	left map[string]bool // messages that were looked at and are none of ours
}

// ErrNoSources means that nobody can send anything.
var ErrNoSources = errors.New("the setup names no sources of requests: write for example requests: {sources: {desk: {folder: requests}}, rules: {all: {max_machines: 20}}}")

// round is one look at all sources and requests.
type round struct {
	*Office
	desk *mint.Desk // without a sheet
	now  time.Time
}

// begin begins a round. Its desk is the caller's to close.
func (o *Office) begin(ctx context.Context) (*round, error) {
	d, err := o.opened(mint.OpenSetup(ctx, o.Input, o.Log))
	if err != nil {
		return nil, err
	}
	return &round{o, d, time.Now()}, nil
}

// Once takes in what has come, goes on with every request as far as that is possible now, and delivers letters. What could not be
// done is in the error, and is done by a later round.
func (o *Office) Once(ctx context.Context) error {
	r, err := o.begin(ctx)
	if err != nil {
		return err
	}
	defer r.desk.Close()
	if len(r.desk.Setup.Requests.Sources) == 0 {
		return ErrNoSources
	}
	failed := r.takeIn(ctx)
	all, err := r.desk.Ledger.Requests(ctx)
	if err != nil {
		return err
	}
	for _, one := range all {
		failed = errors.Join(failed, r.through(ctx, one))
	}
	return errors.Join(failed, r.warn(ctx), r.deliver(ctx))
}

func (o *Office) opened(d *mint.Desk, err error) (*mint.Desk, error) {
	if err == nil && o.Opened != nil {
		o.Opened(d)
	}
	return d, err
}

// through takes a request as far as it goes now.
func (r *round) through(ctx context.Context, one request.Request) error {
	for ctx.Err() == nil && r.Stop.Err() == nil {
		err := r.goOn(ctx, one)
		if errors.Is(err, ledger.ErrRequestChanged) {
			return nil // by somebody else, who goes on with it
		}
		if err != nil {
			return fmt.Errorf("request %s: %w", one.ID, err)
		}
		was := one.Changed
		if one, err = r.desk.Ledger.Request(ctx, one.ID); err != nil || one.Changed == was {
			return err
		}
	}
	return nil
}

// goOn does what comes next with a request.
func (r *round) goOn(ctx context.Context, one request.Request) error {
	switch one.State {
	case request.Received:
		return r.look(ctx, one)
	case request.Waiting:
		return r.remind(ctx, one)
	case request.Approved:
		return r.do(ctx, one)
	}
	return nil
}

// rule is what a request may ask for by the setup as it is now.
func (r *round) rule(one request.Request) (setup.RequestRule, bool) {
	rule, known := r.desk.Setup.Requests.Rules[one.Rule]
	return rule, known
}

// open opens a request's own sheet, which has passed its rule. What is wrong with it is an *input.Refused.
func (r *round) open(ctx context.Context, one request.Request, content []byte) (*mint.Desk, error) {
	rule, known := r.rule(one)
	if !known {
		return nil, fmt.Errorf("the setup has no rule %s any more", one.Rule)
	}
	in := r.Input
	in.Sheet, in.Content, in.Expanded, in.Kind, in.Worksheet, in.Names = one.Sheet, content, mail.MostExpanded, "", "", nil
	in.Gate = func(s *setup.Setup, t *sheet.Table) finding.List {
		return request.Gate(rule, one.Sender, s.Where("requests", "rules", one.Rule), t)
	}
	in.Check = func(s *setup.Setup, wanted []*batch.Wanted) finding.List { return request.Check(s, rule, wanted) }
	d, err := r.opened(mint.Open(ctx, in, r.Log))
	if err == nil && len(d.Wanted) == 0 { // no names at all would mean every machine
		none := finding.List{{Code: "no-machines", At: finding.Position{File: one.Sheet}, Message: "the sheet has no rows of machines", Hint: "write one for each machine"}}
		return nil, errors.Join(&input.Refused{Findings: none}, d.Close())
	}
	return d, err
}

// change keeps what has become of a request and tells it.
func (r *round) change(ctx context.Context, one request.Request, letters ...request.Letter) error {
	if err := r.desk.Ledger.ChangeRequest(ctx, one, letters...); err != nil {
		return err
	}
	text := fmt.Sprintf("request %s (%s): %s", one.ID, one.Sheet, one.State)
	if one.Why != "" {
		text += ": " + one.Why
	}
	r.Told(text)
	return nil
}
