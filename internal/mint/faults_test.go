package mint_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/proof"
	"mintbatch/internal/input"
	"mintbatch/internal/mint"
	"mintbatch/internal/plan"
)

// mint mints a sheet and returns its outcome.
func (w *world) mint(t *testing.T, sheet string) *mint.Outcome {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "machines.csv"), []byte(sheet), 0o600))
	d, err := mint.Open(t.Context(), input.Input{Setups: []string{filepath.Join(w.dir, "mintbatch.yaml")}}, nil)
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, d.Ledger.Lock(t.Context(), "test", mint.Everything))
	p, err := d.Make(t.Context(), plan.Request{Contact: plan.Online})
	require.NoError(t, err)
	o, err := do(t.Context(), d)(d.Minting(t.Context(), "mint", p, plan.RefuseRemakes, mint.Order{}))
	var incomplete *mint.Incomplete
	if err != nil {
		require.ErrorAs(t, err, &incomplete)
	}
	assert.Zero(t, p.Count(proof.Taken))
	return o
}

// Whatever goes wrong at a site, what can be made is made, the rest is named with
// its cause, and once the cause is fixed the next run makes it: each once.
func TestFaultMixes(t *testing.T) {
	sheet := func(n int) string {
		text := "machine,preset,site\n"
		for i := range n {
			text += fmt.Sprintf("bms-mix-%02d,%s,%s\n", i, []string{"node", "spare"}[i%2], []string{"quay", "vessel"}[i/2%2])
		}
		return text
	}
	down := func(dir string, from, to string) {
		path := filepath.Join(dir, "sandbox", "plan.json")
		plan, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Contains(t, string(plan), from)
		require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(plan), from, to, 1)), 0o600))
	}
	for name, c := range map[string]struct {
		faults   []string
		from, to string // of the plan
		causes   []string
		n        int // machines
		atLeast  int // of them made all the same
	}{
		"a mix":              {faults: []string{"refuse:10%", "fail:5%", "lose:2%", "slow:10%"}, causes: []string{"refused (simulated", "failed half-way"}, n: 40, atLeast: 5},
		"all replies lost":   {faults: []string{"lose:60%"}, causes: []string{"the site cannot be reached"}, n: 16, atLeast: 1},
		"a store that fills": {from: `"capacity": "200GiB"`, to: `"capacity": "9GiB"`, causes: []string{`store "vessel-disk" is full`}, n: 40, atLeast: 20},
		"a host that goes":   {from: `"name": "vessel-hv1"`, to: `"down": "no power", "name": "vessel-hv1"`, causes: []string{`no host`, "no store"}, n: 40, atLeast: 20},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			served(t, dir).stop()
			if c.from != "" {
				down(dir, c.from, c.to)
			}
			w := served(t, dir, c.faults...)
			made := 0
			for _, r := range w.mint(t, sheet(c.n)).Results {
				if r.Err == nil {
					made++
					continue
				}
				assert.Condition(t, func() bool {
					for _, cause := range c.causes {
						if strings.Contains(r.Err.Error(), cause) {
							return true
						}
					}
					return false
				}, "%s: %s", r.Name, r.Err)
			}
			w.stop()
			assert.GreaterOrEqual(t, made, c.atLeast)
			assert.Less(t, made, c.n, "nothing went wrong")
			if c.from != "" {
				down(dir, c.to, c.from)
			}
			w = served(t, dir)
			for _, r := range w.mint(t, sheet(c.n)).Results {
				assert.NoError(t, r.Err, r.Name)
			}
			assert.Empty(t, w.mint(t, sheet(c.n)).Results, "all is done")
			w.stop()
			ids := strings.Count(w.state(t), "once made ")
			assert.Equal(t, c.n, ids, "each was made once")
		})
	}
}
