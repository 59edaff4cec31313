package mint

import (
	"context"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
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
// back. The ledger must be held.
func (s *Session) Retire(ctx, stop context.Context, works []proof.Work, o Order) (*Minted, error) {
	for _, w := range works {
		if _, err := s.site(w.Site); err != nil {
			return nil, err
		}
	}
	return s.run(ctx, stop, "retire", &Minted{}, works, o, (*run.Engine).Retire)
}
