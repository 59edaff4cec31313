package mint

import (
	"context"
	"errors"
	"os"
	"time"

	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/ledger"
)

// Checked is what Check found.
type Checked struct {
	Findings finding.List
	Machines int
}

// Check reads setup and sheet and tells every finding. It asks no site; the
// ledger, where there is one, says which addresses are held.
func Check(ctx context.Context, in Input) (*Checked, error) {
	b, err := load(in)
	if err != nil {
		return nil, err
	}
	past := batch.Past{Now: time.Now()}
	if path := b.ledgerPath(); ledger.IsShared(path) || exists(path) {
		l, err := ledger.Open(ctx, path)
		if err != nil {
			return nil, err
		}
		defer l.Close()
		known, err := l.Machines(ctx)
		if err != nil {
			return nil, err
		}
		if past, err = pastOf(ctx, l, known, nil); err != nil {
			return nil, err
		}
	}
	_, found := batch.Assign(b.Wanted, b.Setup, past)
	return &Checked{append(b.Findings, found...).Sorted(), len(b.Wanted)}, nil
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

func (b *Batch) ledgerPath() string {
	if b.Setup.Ledger == "" {
		return b.path("mintbatch.ledger")
	}
	if ledger.IsShared(b.Setup.Ledger) {
		return b.Setup.Ledger
	}
	return b.path(b.Setup.Ledger)
}

// CheckSetup reads the setup alone.
func CheckSetup(in Input) (finding.List, error) {
	b, err := loadSetup(in)
	var refused *Refused
	switch {
	case errors.As(err, &refused):
		return refused.Findings.Sorted(), err
	case err != nil:
		return nil, err
	}
	return b.Findings.Sorted(), nil
}
