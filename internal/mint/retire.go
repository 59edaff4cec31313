package mint

import (
	"context"
	"errors"
	"slices"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/run"
)

// Owned lists the machines of the ledger whose names match one of the globs,
// as work for Retire. No glob matches none.
func (s *Session) Owned(ctx context.Context, names []string) ([]proof.Work, error) {
	if len(names) == 0 {
		return nil, nil
	}
	known, err := s.known(ctx, names)
	if err != nil {
		return nil, err
	}
	var works []proof.Work
	for _, k := range known {
		works = append(works, proof.Work{Key: k.Key, Generation: k.Generation, Identity: machine.Identity(s.Ledger.ID, k.Key, k.Generation),
			Machine: &machine.Machine{Key: k.Key, Spec: k.Spec}})
	}
	return works, nil
}

// Strays lists the machines of the ledger that the sheet no longer has.
func (s *Session) Strays(ctx context.Context) ([]proof.Work, error) {
	wanted := map[machine.Key]bool{}
	for _, w := range s.Wanted {
		wanted[w.Key] = true
	}
	all, err := s.Owned(ctx, []string{"*"})
	var strays []proof.Work
	for _, w := range all {
		if !wanted[w.Key] {
			strays = append(strays, w)
		}
	}
	return strays, err
}

// Retire takes machines down and out of the ledger, and gives their addresses
// back. They must have been claimed.
func (s *Session) Retire(ctx, stop context.Context, works []proof.Work, o Order) (*Minted, error) {
	m, err := s.removing(ctx, stop, works, o, (*run.Engine).Retire)
	if m == nil || o.Disks != survey.KeepDisks {
		return m, err
	}
	kept, failed := s.Ledger.Kept(ctx)
	for _, k := range kept {
		if slices.ContainsFunc(m.Results, func(r run.Result) bool { return r.Err == nil && r.Key == k.Key && r.Generation == k.Generation }) {
			m.Kept = append(m.Kept, k)
		}
	}
	return m, errors.Join(err, failed)
}

// removing does something to machines of the ledger, whatever the sheet says.
func (s *Session) removing(ctx, stop context.Context, works []proof.Work, o Order,
	do func(*run.Engine, context.Context, context.Context, []proof.Work) []run.Result) (*Minted, error) {
	for _, w := range works {
		if _, err := s.site(w.Site); err != nil {
			return nil, errors.Join(err, s.Disclaim(ctx))
		}
	}
	return s.run(ctx, stop, &Minted{Run: s.claimed.ID}, works, o, do)
}
