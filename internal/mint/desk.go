// Package mint holds the use cases about machines, one file each, named like the
// commands.
package mint

import (
	"context"
	"log/slog"
	"slices"

	"mintbatch/internal/around"
	"mintbatch/internal/core/assign"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
	"mintbatch/internal/plan"
	"mintbatch/internal/sites"
	"mintbatch/internal/vault"
)

// Desk is a setup, and perhaps a sheet, with the ledger, the sites and the sealed values
// at hand.
type Desk struct {
	plan.Planner
	Vault *vault.Vault
	log   *slog.Logger // nil for none
}

// Open reads setup and sheet and opens the ledger. The caller closes it.
func Open(ctx context.Context, in input.Input, log *slog.Logger) (*Desk, error) {
	in.Sealed = vault.OpenOne
	b, err := input.Load(in)
	return open(ctx, b, err, log)
}

// OpenSetup is Open for what needs no sheet.
func OpenSetup(ctx context.Context, in input.Input, log *slog.Logger) (*Desk, error) {
	in.Sealed = vault.OpenOne
	b, err := input.LoadSetup(in)
	return open(ctx, b, err, log)
}

// OpenAny is Open where a sheet is named, and else OpenSetup.
func OpenAny(ctx context.Context, in input.Input, log *slog.Logger) (*Desk, error) {
	in.Sealed = vault.OpenOne
	b, err := input.LoadSetup(in)
	if err == nil && b.HasSheet(in) {
		err = b.ReadSheet(in)
	}
	return open(ctx, b, err, log)
}

func open(ctx context.Context, b *input.Batch, err error, log *slog.Logger) (*Desk, error) {
	if err != nil {
		return nil, err
	}
	if b.Findings.Failed() {
		// All findings are wanted, those of the addresses too.
		_, found := assign.Addresses(b.Wanted, b.Setup, assign.Past{Named: b.Named})
		_, order := plan.Sequence(b, nil)
		return nil, &input.Refused{Findings: slices.Concat(b.Findings, found, order).Sorted()}
	}
	l, err := ledger.Open(ctx, b.LedgerPath())
	if err != nil {
		return nil, err
	}
	v := &vault.Vault{Batch: b, Ledger: l}
	return &Desk{plan.Planner{Batch: b, Ledger: l, Sites: sites.New(v, log), Around: around.New(v)}, v, log}, nil
}

// Close closes the ledger and the sites.
func (d *Desk) Close() error {
	d.Sites.Close()
	d.Around.Close()
	return d.Ledger.Close()
}
