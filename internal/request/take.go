package request

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"

	"mintbatch/internal/core/mail"
	"mintbatch/internal/core/request"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/input"
)

// ErrSource means that a source cannot be used now, or a mail server.
var ErrSource = errors.New("source")

// takeIn keeps what has come to the sources in the ledger, and then puts it out of the way. What no rule is for is left where it is.
func (r *round) takeIn(ctx context.Context) (failed error) {
	for _, name := range setup.Names(r.desk.Setup.Requests.Sources) {
		if err := r.takeFrom(ctx, name, r.desk.Setup.Requests.Sources[name]); err != nil {
			failed = errors.Join(failed, fmt.Errorf("%w: %s: %w", ErrSource, name, err))
		}
	}
	return failed
}

func (r *round) takeFrom(ctx context.Context, name string, s setup.RequestSource) error {
	if s.IsMail() {
		return r.takeMail(ctx, name, s)
	}
	from, err := r.folder(name)
	if err != nil {
		return err
	}
	defer from.Close()
	all, failed := from.arrivals(r.now)
	for _, a := range all {
		rule, found := r.desk.Setup.RequestRuleFor(name, a.sender, "")
		if !found || !r.desk.Setup.Requests.Rules[rule].Takes(a.name) {
			continue
		}
		one := r.received(name, rule, a)
		err := r.desk.Ledger.AddRequest(ctx, one, a.content)
		if err == nil {
			err = from.settle(a, one.ID)
		}
		failed = errors.Join(failed, err)
	}
	return failed
}

// tooLarge is what is wrong with a file that is not read.
var tooLarge = fmt.Sprintf("the file is larger than %d MiB", mail.MostFile>>20)

// received is the request that an arrival makes.
func (r *round) received(source, rule string, a arrival) request.Request {
	sum := sha256.Sum256(a.content)
	return request.Request{ID: request.ID(source, a.origin, a.content), Source: source, Origin: a.origin, Sender: a.sender, Rule: rule, Sheet: a.name,
		Digest: hex.EncodeToString(sum[:]), Received: r.now.UTC(), State: request.Received, Why: a.wrong}
}

// folder opens the folder of a source.
func (r *round) folder(name string) (*folder, error) {
	s, known := r.desk.Setup.Requests.Sources[name]
	if !known || s.IsMail() {
		return nil, fmt.Errorf("the setup has no folder %s any more", name)
	}
	sender := s.Sender
	if sender == "" {
		sender = name
	}
	f, err := openFolder(r.desk.Path(s.Folder), sender)
	if err != nil {
		return nil, fmt.Errorf("folder %s: %w; create it, or name another in the setup", s.Folder, input.Reason(err))
	}
	return f, nil
}
