package request

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/request"
	"mintbatch/internal/input"
)

// ErrDecide means that a request cannot be decided on.
var ErrDecide = errors.New("it cannot be decided on")

// ErrWhich means that what was said of a request fits none, or several.
var ErrWhich = errors.New("which request is meant is not clear")

// Proposal is a request with what it would make now.
type Proposal struct {
	request.Request
	Works []proof.Work
	Notes []string
	// Moved says that it is not what the request's proof was when it was shown last.
	Moved bool
	// Refused is why nothing would be made; nil if something would.
	Refused *input.Refused
}

// with finds a request by the beginning of its id, and does something with it.
func (o *Office) with(ctx context.Context, id string, do func(r *round, one request.Request) error) error {
	r, err := o.begin(ctx)
	if err != nil {
		return err
	}
	defer r.desk.Close()
	one, err := r.find(ctx, id)
	if err != nil {
		return err
	}
	return do(r, one)
}

// List returns all requests, the oldest first.
func (o *Office) List(ctx context.Context) ([]request.Request, error) {
	r, err := o.begin(ctx)
	if err != nil {
		return nil, err
	}
	defer r.desk.Close()
	return r.desk.Ledger.Requests(ctx)
}

// Find finds a request by the beginning of its id.
func (o *Office) Find(ctx context.Context, id string) (request.Request, error) {
	var found request.Request
	err := o.with(ctx, id, func(_ *round, one request.Request) error {
		found = one
		return nil
	})
	return found, err
}

// Show finds a request by the beginning of its id, with what it would make now if it waits for a decision. If that cannot be told for
// now, because of a site, there is a request all the same, and an error.
func (o *Office) Show(ctx context.Context, id string) (*Proposal, error) {
	var shown *Proposal
	err := o.with(ctx, id, func(r *round, one request.Request) (err error) {
		shown, err = r.show(ctx, one)
		return err
	})
	return shown, err
}

func (r *round) show(ctx context.Context, one request.Request) (*Proposal, error) {
	shown := &Proposal{Request: one}
	if one.State != request.Waiting && one.State != request.Failed {
		return shown, nil
	}
	content, err := r.desk.Ledger.RequestSheet(ctx, one.ID)
	if err != nil {
		return nil, err
	}
	p, err := r.prove(ctx, one, content)
	if errors.As(err, &shown.Refused) {
		return shown, nil
	}
	if err != nil {
		return shown, err
	}
	shown.Works, shown.Notes, shown.Moved = p.works, p.after, p.digest != one.Proof
	shown.Request.Proof = p.digest
	return shown, nil
}

// find finds a request by the beginning of its id; an empty one is the only one that waits.
func (r *round) find(ctx context.Context, id string) (request.Request, error) {
	all, err := r.desk.Ledger.Requests(ctx)
	if err != nil {
		return request.Request{}, err
	}
	var some []request.Request
	for _, one := range all {
		if id != "" && strings.HasPrefix(one.ID, strings.ToLower(id)) || id == "" && one.State == request.Waiting {
			some = append(some, one)
		}
	}
	if id == "" && len(some) != 1 {
		return request.Request{}, fmt.Errorf("%w: %s", ErrWhich, waiting(len(some)))
	}
	switch len(some) {
	case 1:
		return some[0], nil
	case 0:
		return request.Request{}, fmt.Errorf("%w: the id of no request begins with %q: `mintbatch request list --all` shows them", ErrWhich, id)
	}
	return request.Request{}, fmt.Errorf("%w: %q is the beginning of %d requests; write more of the id", ErrWhich, id, len(some))
}

func waiting(n int) string {
	if n == 0 {
		return "no request waits for a decision"
	}
	return fmt.Sprintf("%d requests wait for a decision; name one", n)
}

// Approve lets the machines of a request be made. The proof is that which whoever approves has seen: if another would be made by
// now, nothing is approved, and the request waits with the new one.
func (o *Office) Approve(ctx context.Context, id, proof, by string) (request.Request, error) {
	var is request.Request
	err := o.with(ctx, id, func(r *round, one request.Request) (err error) {
		is, err = r.approve(ctx, one, proof, by)
		return err
	})
	return is, err
}

func (r *round) approve(ctx context.Context, one request.Request, proof, by string) (request.Request, error) {
	if one.State != request.Waiting && one.State != request.Failed {
		return one, fmt.Errorf("%w: request %s is %s", ErrDecide, one.ID, one.State)
	}
	now, err := r.show(ctx, one)
	switch {
	case err != nil:
		return one, err
	case now.Refused != nil:
		return one, now.Refused
	case one.State == request.Waiting && now.Proof != proof:
		if err := r.propose(ctx, one, &proven{works: now.Works, digest: now.Proof, after: now.Notes}, false); err != nil {
			return one, err
		}
		return one, fmt.Errorf("%w: what request %s would make has changed since it was shown; look at it again", ErrDecide, one.ID)
	}
	one.State, one.By, one.Why = request.Approved, by, ""
	return one, r.change(ctx, one)
}

// Refuse says no to a request, and tells its sender why.
func (o *Office) Refuse(ctx context.Context, id, why, by string) (request.Request, error) {
	var is request.Request
	err := o.with(ctx, id, func(r *round, one request.Request) (err error) {
		is, err = r.say(ctx, one, why, by)
		return err
	})
	return is, err
}

// say says no.
func (r *round) say(ctx context.Context, one request.Request, why, by string) (request.Request, error) {
	if one.State != request.Waiting && one.State != request.Failed && one.State != request.Received {
		return one, fmt.Errorf("%w: request %s is %s", ErrDecide, one.ID, one.State)
	}
	one.State, one.By, one.Why = request.Refused, by, why
	told := request.Told{Title: one.Sheet + ": refused", Paragraphs: []string{"Nothing was made."}}
	if len(one.Machines) > 0 && one.Run != "" {
		told.Paragraphs = []string{"Nothing more is made."}
	}
	if why != "" {
		told.Paragraphs = append(told.Paragraphs, why)
	}
	letter, err := r.letter(one, told, request.Refusal, r.to(one))
	if err != nil {
		return one, err
	}
	return one, r.change(ctx, one, letter)
}

// Sheet is the sheet of a request, as it was sent.
func (o *Office) Sheet(ctx context.Context, id string) ([]byte, error) {
	var content []byte
	err := o.with(ctx, id, func(r *round, one request.Request) (err error) {
		content, err = r.desk.Ledger.RequestSheet(ctx, one.ID)
		return err
	})
	return content, err
}
