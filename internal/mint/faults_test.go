package mint

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/proof"
)

// minted mints a sheet and tells what came of it.
func (w *world) minted(t *testing.T, sheet string) *Minted {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "machines.csv"), []byte(sheet), 0o600))
	s, err := Open(t.Context(), Input{Setups: []string{filepath.Join(w.dir, "mintbatch.yaml")}}, nil)
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.HoldLedger(t.Context(), "test", Everything))
	p, err := s.Proof(t.Context(), nil, false)
	require.NoError(t, err)
	todo, refused := Todo(p, false)
	require.NoError(t, s.Claim(t.Context(), "mint", todo))
	m, err := s.Mint(t.Context(), t.Context(), todo, refused, Order{})
	var incomplete *Incomplete
	if err != nil {
		require.ErrorAs(t, err, &incomplete)
	}
	assert.Zero(t, p.Count(proof.Taken))
	return m
}

// Whatever goes wrong at a site, what can be made is made, the rest is named with
// its cause, and once the cause is mended the next run makes it: each once.
func TestFaultMixes(t *testing.T) {
	const n = 40
	sheet := "machine,preset,site\n"
	for i := range n {
		sheet += fmt.Sprintf("bms-mix-%02d,%s,%s\n", i, []string{"node", "spare"}[i%2], []string{"quay", "vessel"}[i/2%2])
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
		atLeast  int // machines made nonetheless
	}{
		"a mix":              {faults: []string{"refuse:10%", "fail:5%", "lose:2%", "slow:10%"}, causes: []string{"refused, as ordered", "failed half-way"}, atLeast: 5},
		"all replies lost":   {faults: []string{"lose:60%"}, causes: []string{"the site cannot be reached"}, atLeast: 1},
		"a store that fills": {from: `"capacity": "200GiB"`, to: `"capacity": "9GiB"`, causes: []string{`store "vessel-disk" is full`}, atLeast: 20},
		"a host that goes":   {from: `"name": "vessel-hv1"`, to: `"down": "no power", "name": "vessel-hv1"`, causes: []string{`no host`, "no store"}, atLeast: 20},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			served(t, dir).stop()
			if c.from != "" {
				down(dir, c.from, c.to)
			}
			w := served(t, dir, c.faults...)
			made := 0
			for _, r := range w.minted(t, sheet).Results {
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
			assert.Less(t, made, n, "nothing went wrong")
			if c.from != "" {
				down(dir, c.to, c.from)
			}
			w = served(t, dir)
			for _, r := range w.minted(t, sheet).Results {
				assert.NoError(t, r.Err, r.Name)
			}
			assert.Empty(t, w.minted(t, sheet).Results, "all is done")
			w.stop()
			ids := strings.Count(w.state(t), "once made ")
			assert.Equal(t, n, ids, "each was made once")
		})
	}
}
