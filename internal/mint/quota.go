package mint

import (
	"context"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/quota"
	"mintbatch/internal/plan"
)

// Quota counts what the setup's quotas limit: what the ledger has, and what the rows of the sheet would make of it. The
// findings are of rows that do not fit.
func (d *Desk) Quota(ctx context.Context) ([]quota.Total, finding.List, error) {
	known, err := d.Ledger.Machines(ctx)
	if err != nil {
		return nil, nil, err
	}
	claimed, err := d.Ledger.Claimed(ctx)
	if err != nil {
		return nil, nil, err
	}
	q := plan.NewQuotas(d.Batch, known, claimed, nil)
	return q.Totals, q.Findings.Sorted(), nil
}
