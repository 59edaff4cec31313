package mint_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"mintbatch/internal/input"
	"mintbatch/internal/ledger/servertest"
	"mintbatch/internal/mint"
	"mintbatch/internal/plan"
)

// Runs that work at once do not get over a quota together: what one has claimed and not made yet
// counts for the other.
func TestQuotaSideBySide(t *testing.T) {
	ledger := servertest.Database(t)
	w := served(t, t.TempDir())
	defer w.stop()
	path := filepath.Join(w.dir, "mintbatch.yaml")
	limits := filepath.Join(w.dir, "limits.yaml")
	require.NoError(t, os.WriteFile(limits, []byte("ledger: "+ledger+"\nquotas: {all: {machines: 3}}\n"), 0o600))
	claim := func(names ...string) (*mint.Desk, *mint.Run, error) {
		sheet := "machine,preset,site\n"
		for _, name := range names {
			sheet += name + ",spare,quay\n"
		}
		file := filepath.Join(t.TempDir(), "machines.csv")
		require.NoError(t, os.WriteFile(file, []byte(sheet), 0o600))
		d, err := mint.Open(t.Context(), input.Input{Setups: []string{path, limits}, Sheet: file}, nil)
		require.NoError(t, err)
		t.Cleanup(func() { d.Close() })
		require.NoError(t, d.Ledger.Lock(t.Context(), "test", mint.Named(names)))
		p, err := d.Make(t.Context(), plan.Request{Contact: plan.Online})
		if err != nil {
			return d, nil, err
		}
		task, err := d.Minting(t.Context(), "mint", p, plan.AllowRemakes, mint.Order{})
		require.NoError(t, err)
		run, err := d.Claim(t.Context(), task)
		return d, run, err
	}
	_, first, err := claim("bms-a", "bms-b")
	require.NoError(t, err)
	second, _, err := claim("bms-c", "bms-d")
	var refused *input.Refused
	require.ErrorAs(t, err, &refused)
	require.Len(t, refused.Findings, 1)
	require.Equal(t, "over-quota", refused.Findings[0].Code)
	second.Close()
	o, err := first.Do(t.Context(), t.Context(), mint.Sinks{})
	require.NoError(t, err)
	require.Len(t, o.Results, 2)
	_, third, err := claim("bms-c")
	require.NoError(t, err)
	_, err = third.Do(t.Context(), t.Context(), mint.Sinks{})
	require.NoError(t, err)
}
