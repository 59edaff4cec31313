package request

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"

	"mintbatch/internal/core/request"
	"mintbatch/internal/core/setup"
)

// takeIn keeps what has come to the sources in the ledger, and then puts it out of the way. What no rule is for is left where it is.
func (r *round) takeIn(ctx context.Context) (failed error) {
	for _, name := range setup.Names(r.desk.Setup.Requests.Sources) {
		if err := r.takeFrom(ctx, name); err != nil {
			failed = errors.Join(failed, fmt.Errorf("source %s: %w", name, err))
		}
	}
	return failed
}

func (r *round) source(name string) (*folder, error) {
	s, known := r.desk.Setup.Requests.Sources[name]
	if !known {
		return nil, fmt.Errorf("the setup has no source %s any more", name)
	}
	sender := s.Sender
	if sender == "" {
		sender = name
	}
	return openFolder(r.desk.Path(s.Folder), sender)
}

func (r *round) takeFrom(ctx context.Context, name string) error {
	from, err := r.source(name)
	if err != nil {
		return err
	}
	defer from.Close()
	all, failed := from.arrivals(r.now)
	for _, a := range all {
		rule, _, found := r.desk.Setup.RequestRuleFor(name, a.sender)
		if !found {
			continue
		}
		sum := sha256.Sum256(a.content)
		one := request.Request{ID: request.ID(name, a.origin, a.content), Source: name, Origin: a.origin, Sender: a.sender, Rule: rule, Sheet: a.name,
			Digest: hex.EncodeToString(sum[:]), Received: r.now.UTC(), State: request.Received, Why: a.wrong}
		err := r.desk.Ledger.AddRequest(ctx, one, a.content)
		if err == nil {
			err = from.settle(a, one.ID)
		}
		failed = errors.Join(failed, err)
	}
	return failed
}

// deliver brings letters to whom they are for. One that cannot be delivered now stays.
func (r *round) deliver(ctx context.Context) (failed error) {
	letters, err := r.desk.Ledger.Letters(ctx)
	if err != nil {
		return err
	}
	for _, l := range letters {
		to, err := r.source(l.Source)
		if err == nil {
			err = errors.Join(to.deliver(l), to.Close())
		}
		if err == nil {
			err = r.desk.Ledger.Delivered(ctx, l.ID)
		}
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("letter %s: %w", l.ID, err))
		}
	}
	return failed
}
