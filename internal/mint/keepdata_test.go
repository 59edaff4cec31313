package mint_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/mint"
	"mintbatch/internal/plan"
	"mintbatch/internal/site"
)

const withData = "machine,preset,site,disks\nbms-one,node,quay,5GiB\nbms-two,spare,quay,1GiB;2GiB\n"

func remakingWithData(ctx context.Context, d *mint.Desk) (mint.Task, error) {
	p, err := d.Make(ctx, plan.Request{Names: []string{"bms-*"}, Contact: plan.Online, Remake: true, Data: proof.KeepDataDisks})
	if err != nil {
		return mint.Task{}, err
	}
	return d.Minting(ctx, "remake", p, plan.AllowRemakes, mint.Order{})
}

// madeWithData is a world, in its folder, in which two machines have the data disks of clones before them. It is stopped.
func madeWithData(t *testing.T) (dir string, w *world) {
	t.Helper()
	dir = t.TempDir()
	w = served(t, dir)
	require.NoError(t, w.run(t, withData, &death{}, &death{}))
	require.NoError(t, w.act(t, remakingWithData, &death{}, &death{}))
	w.stop()
	return dir, w
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
	base, w := madeWithData(t)
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

// A mint that clones machines again without their data disks is ended at points of it, or a reply is lost, and a remake that keeps
// these follows: none that it keeps are forgotten, and a retire deletes them.
func TestDataKeptAfterAllCrashPoints(t *testing.T) {
	base := t.TempDir()
	w := served(t, base)
	require.NoError(t, w.run(t, withData, &death{}, &death{}))
	w.stop()
	changed := strings.NewReplacer("disks", "disks,hostname", "5GiB", "5GiB,other", "2GiB", "2GiB,another").Replace(withData)
	again := copies(t, base)
	w, count := again(), &death{}
	require.NoError(t, w.run(t, changed, count, &death{}))
	w.stop()
	endedAnywhere(t, again, count.count, amount(61, 29, 2), func(w *world, d, lose *death) { _ = w.run(t, changed, d, lose) }, func(w *world, what string) {
		_ = w.act(t, remakingWithData, &death{}, &death{}) // refused where the removal of a clone was begun
		assert.NoError(t, untilDone(func() error { return w.run(t, changed, &death{}, &death{}) }), what)
		assert.NoError(t, w.run(t, "machine\nbms-else\n", &death{}, &death{}), what)
		w.stop()
		_, loose := w.disks(t)
		assert.Empty(t, loose, what)
	})
}

// Somebody has deleted machines at the site whose data disks come from clones before them. The mint
// that makes them again is ended at points of it, or a reply is lost. A mint goes on, also one of
// changed rows: those disks stay, as nobody has asked for their loss. Or a retire follows, which
// deletes those that are not kept yet.
func TestDataOfDeletedMachinesCrashPoints(t *testing.T) {
	base, w := madeWithData(t)
	had, loose := w.disks(t)
	require.Len(t, loose, 2)
	machines, err := os.OpenFile(filepath.Join(base, "sandbox", "machines.jsonl"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	for id, m := range w.machines(t) {
		if !m.OnlyData {
			_, err = fmt.Fprintf(machines, `{"id":%q,"site":%q,"gone":true}`+"\n", id, m.Site)
			require.NoError(t, err)
		}
	}
	require.NoError(t, machines.Close())
	again := copies(t, base)
	minting := func(ctx context.Context, d *mint.Desk) (mint.Task, error) {
		p, err := d.Make(ctx, plan.Request{Contact: plan.Online, Missing: plan.AcceptMissing})
		if err != nil {
			return mint.Task{}, err
		}
		return d.Minting(ctx, "mint", p, plan.AllowRemakes, mint.Order{})
	}
	retiring := func(ctx context.Context, d *mint.Desk) (mint.Task, error) {
		r, err := d.Retiring(ctx, mint.Which{Names: []string{"bms-*"}}, plan.AcceptMissing)
		return mint.Retirement("retire", r.Works, mint.Order{}), err
	}
	w, count := again(), &death{}
	require.NoError(t, w.act(t, minting, count, &death{}))
	w.stop()
	for name, then := range map[string]struct {
		sheet string
		task  func(context.Context, *mint.Desk) (mint.Task, error)
		made  int
	}{
		"mint":            {withData, minting, len(had)},
		"mint other rows": {strings.ReplaceAll(withData, ",node,", ",spare,"), minting, len(had)},
		"retire":          {withData, retiring, 0},
	} {
		t.Run(name, func(t *testing.T) {
			endedAnywhere(t, again, count.count, amount(37, 17, 1), func(w *world, d, lose *death) { _ = w.act(t, minting, d, lose) }, func(w *world, what string) {
				require.NoError(t, os.WriteFile(filepath.Join(w.dir, "machines.csv"), []byte(then.sheet), 0o600))
				assert.NoError(t, untilDone(func() error { return w.act(t, then.task, &death{}, &death{}) }), what)
				w.stop()
				has, stay := w.disks(t)
				assert.Len(t, has, then.made, what)
				for id, m := range w.machines(t) {
					assert.True(t, !m.OnlyData || m.Kept, "%s: the data disks of %s belong to nobody", what, id)
				}
				if then.made > 0 {
					assert.Subset(t, stay, loose, what)
				}
			})
		})
	}
}

// A site has listed no machines for once, at a remake that loses data disks: those of clones before, of which nobody asked for the
// loss then, are kept for good, and machines are not unfinished for ever because of that.
func TestDataOfUnlistedMachines(t *testing.T) {
	base, w := madeWithData(t)
	_, loose := w.disks(t)
	again := copies(t, base)
	for name, then := range map[string]func(context.Context, *mint.Desk) (mint.Task, error){
		"remake": func(ctx context.Context, d *mint.Desk) (mint.Task, error) {
			p, err := d.Make(ctx, plan.Request{Names: []string{"bms-*"}, Contact: plan.Online, Remake: true, Data: proof.LoseDataDisks})
			if err != nil {
				return mint.Task{}, err
			}
			return d.Minting(ctx, "remake", p, plan.AllowRemakes, mint.Order{})
		},
		"retire": func(ctx context.Context, d *mint.Desk) (mint.Task, error) {
			r, err := d.Retiring(ctx, mint.Which{Names: []string{"bms-*"}}, plan.AcceptMissing)
			return mint.Retirement("retire", r.Works, mint.Order{}), err
		},
	} {
		t.Run(name, func(t *testing.T) {
			w, ctx := again(), t.Context()
			d := w.open(t, &death{}, &death{})
			_, err := d.Sites.Site("quay")
			require.NoError(t, err)
			d.Sites.Use("quay", func(opened site.Site) site.Site { return unruly{opened, &fault{blind: true}} })
			require.NoError(t, d.Ledger.Lock(ctx, "test", mint.Everything))
			p, err := d.Make(ctx, plan.Request{Contact: plan.Online, Missing: plan.AcceptMissing})
			require.NoError(t, err)
			_, _ = do(ctx, d)(d.Minting(ctx, "mint", p, plan.AllowRemakes, mint.Order{}))
			require.NoError(t, d.Close())
			assert.NoError(t, untilDone(func() error { return w.act(t, then, &death{}, &death{}) }))
			w.stop()
			_, stay := w.disks(t)
			assert.ElementsMatch(t, loose, stay)
		})
	}
}

// keepsClones is a site that refuses to delete machines.
type keepsClones struct{ unruly }

func (keepsClones) Remove(context.Context, uuid.UUID, contract.Disks) (contract.Task, error) {
	return contract.Task{}, fmt.Errorf("%w: as ordered", site.ErrRefused)
}

// A remake that keeps data disks has shut down the clones that it was to replace, which the site refuses to delete. The mint that goes back
// to these is ended at points of it, or a reply is lost: the next one starts them, and does not take that for a change by others.
func TestGoingBackCrashPoints(t *testing.T) {
	base, ctx := t.TempDir(), t.Context()
	w := served(t, base)
	require.NoError(t, w.run(t, withData, &death{}, &death{}))
	d := w.open(t, &death{}, &death{})
	_, err := d.Sites.Site("quay")
	require.NoError(t, err)
	d.Sites.Use("quay", func(opened site.Site) site.Site { return keepsClones{unruly{opened, &fault{}}} })
	require.NoError(t, d.Ledger.Lock(ctx, "test", mint.Everything))
	_, err = do(ctx, d)(remakingWithData(ctx, d))
	require.Error(t, err)
	require.NoError(t, d.Close())
	w.stop()
	off := func(w *world) (names []string) {
		for _, m := range w.machines(t) {
			if m.Power == machine.Off {
				names = append(names, m.Name)
			}
		}
		return names
	}
	require.Len(t, off(w), 2)
	again := copies(t, base)
	w, count := again(), &death{}
	require.NoError(t, w.run(t, withData, count, &death{}))
	w.stop()
	endedAnywhere(t, again, count.count, amount(24, 12, 1), func(w *world, d, lose *death) { _ = w.run(t, withData, d, lose) }, func(w *world, what string) {
		assert.NoError(t, untilDone(func() error { return w.run(t, withData, &death{}, &death{}) }), what)
		w.stop()
		assert.Empty(t, off(w), what)
	})
}
