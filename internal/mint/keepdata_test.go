package mint_test

import (
	"bufio"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/mint"
	"mintbatch/internal/plan"
)

const withData = "machine,preset,site,disks\nbms-one,node,quay,5GiB\nbms-two,spare,quay,1GiB;2GiB\n"

func remakingWithData(ctx context.Context, d *mint.Desk) (mint.Task, error) {
	p, err := d.Make(ctx, plan.Request{Names: []string{"bms-*"}, Contact: plan.Online, Remake: true, Data: proof.KeepDataDisks})
	if err != nil {
		return mint.Task{}, err
	}
	return d.Minting(ctx, "remake", p, plan.AllowRemakes, mint.Order{})
}

// disks is by whose names each machine of the sandbox has its data disks, and the identities of
// which nothing but data disks is left.
func (w *world) disks(t *testing.T) (of map[string][]uuid.UUID, loose []uuid.UUID) {
	t.Helper()
	f, err := os.Open(filepath.Join(w.dir, "sandbox", "machines.jsonl"))
	require.NoError(t, err)
	defer f.Close()
	type record struct {
		ID       uuid.UUID
		Name     string
		Gone     bool
		OnlyData bool `json:"only_data"`
		Shape    machine.Shape
		Mark     struct{ machine.Origin }
	}
	last := map[uuid.UUID]record{}
	for lines := bufio.NewScanner(f); lines.Scan(); {
		var r record
		require.NoError(t, json.Unmarshal(lines.Bytes(), &r))
		last[r.ID] = r
	}
	of = map[string][]uuid.UUID{}
	for _, r := range last {
		switch {
		case r.Gone:
		case r.OnlyData:
			loose = append(loose, r.ID)
		default:
			assert.NotContains(t, of, r.Name)
			of[r.Name] = r.Mark.Carried(r.ID, len(r.Shape.Disks))
		}
	}
	return of, loose
}

// A remake that keeps data disks is ended at points of it, or a reply is lost, and a mint goes
// on: each machine has the data disks that it had, and none are left once it is retired.
func TestKeptDataCrashPoints(t *testing.T) {
	base := t.TempDir()
	w := served(t, base)
	require.NoError(t, w.run(t, withData, &death{}, &death{}))
	require.NoError(t, w.act(t, remakingWithData, &death{}, &death{}))
	w.stop()
	had, loose := w.disks(t)
	require.Len(t, had, 2)
	require.Len(t, loose, 2)
	again := copies(t, base)
	w, count := again(), &death{}
	require.NoError(t, w.act(t, remakingWithData, count, &death{}))
	w.stop()
	endedAnywhere(t, again, count.count, amount(61, 29, 1), func(w *world, d, lose *death) { _ = w.act(t, remakingWithData, d, lose) }, func(w *world, what string) {
		assert.NoError(t, untilDone(func() error { return w.run(t, withData, &death{}, &death{}) }), what)
		has, loose := w.disks(t)
		assert.Equal(t, had, has, what)
		for _, id := range loose {
			assert.True(t, slices.ContainsFunc([]string{"bms-one", "bms-two"}, func(name string) bool { return slices.Contains(had[name], id) }), what)
		}
		assert.NoError(t, w.run(t, "machine\nbms-else\n", &death{}, &death{}), what)
		w.stop()
		_, loose = w.disks(t)
		assert.Empty(t, loose, what)
	})
}
