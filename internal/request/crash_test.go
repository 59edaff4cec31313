package request

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/request"
	"mintbatch/internal/fastdir"
	"mintbatch/internal/handover"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/run"
	"mintbatch/internal/sandbox"
)

func TestMain(m *testing.M) {
	defer fastdir.Use()()
	m.Run()
}

// nobody sits in front of the office.
type nobody struct{}

func (nobody) Waiting(*ledger.Busy)         {}
func (nobody) Confirm(mint.Question) error  { return nil }
func (nobody) Interactive() bool            { return false }
func (nobody) Log() (io.Writer, error)      { return io.Discard, nil }
func (nobody) Boundary() func(run.Boundary) { return nil }
func (nobody) Watch([]proof.Work) (func(run.Event), func()) {
	return func(run.Event) {}, func() {}
}

// Ended before or after each of its writes, and run again, an office has answered each request once and made its machines once.
func TestEveryWrite(t *testing.T) {
	every := 9
	if os.Getenv("MINTBATCH_FULL") != "" {
		every = 1
	}
	points := endedAt(t, 0)
	require.Greater(t, points, 20)
	for at := 1; at <= points; at += every {
		endedAt(t, at)
	}
}

// endedAt lets an office end at a point of its first round, goes on with others, and looks what has come of it. It returns how many points
// there were.
func endedAt(t *testing.T, at int) int {
	t.Helper()
	ctx, dir := t.Context(), t.TempDir()
	s, err := sandbox.Open(sandbox.Options{Dir: filepath.Join(dir, "sandbox"), Plan: sandbox.DemoPlan(), Speed: 1e6})
	require.NoError(t, err)
	serving, end := context.WithCancel(ctx)
	served := make(chan error, 1)
	go func() { served <- s.Serve(serving) }()
	defer func() { end(); <-served }()
	require.NoError(t, handover.WriteDemo(dir, handover.Demo{URL: s.URL, Fingerprint: s.Fingerprint.String(), DNS: s.Names.Address}))
	setup := filepath.Join(dir, "mintbatch.yaml")
	text, err := os.ReadFile(setup)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(setup, []byte(string(text)+"requests: {sources: {desk: {folder: requests}}, rules: {all: {unapproved: 9, set: {site: quay}}}}\n"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "requests"), 0o700))
	for name, sheet := range map[string]string{"good.csv": "machine,preset\nbms-c-[1-2],tide-gauge\n", "bad.csv": "machine,preset\nbms-x,nothing\n"} {
		path := filepath.Join(dir, "requests", name)
		require.NoError(t, os.WriteFile(path, []byte(sheet), 0o600))
		require.NoError(t, os.Chtimes(path, time.Time{}, time.Now().Add(-time.Minute)))
	}
	var mu sync.Mutex // writes are side by side
	count := 0
	round := func(at int) error {
		dead := false
		o := &Office{Input: input.Input{Setups: []string{setup}}, Told: func(string) {}, Console: nobody{}, Stop: ctx, Opened: func(d *mint.Desk) {
			d.Ledger.Hook = func(string) error {
				mu.Lock()
				defer mu.Unlock()
				if count++; count == at {
					dead = true
				}
				if dead {
					return errors.New("dead")
				}
				return nil
			}
		}}
		return o.Once(ctx)
	}
	first := round(at)
	points := count
	count = 0
	if at == 0 {
		require.NoError(t, first)
	}
	require.NoError(t, round(0), "ended at %d", at)
	require.NoError(t, round(0), "ended at %d", at)
	d, err := mint.OpenSetup(ctx, input.Input{Setups: []string{setup}}, nil)
	require.NoError(t, err)
	defer d.Close()
	all, err := d.Ledger.Requests(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2, "ended at %d", at)
	events, err := d.Ledger.History(ctx)
	require.NoError(t, err)
	for _, one := range all {
		want, letters := request.Done, 2
		if one.Sheet == "bad.csv" {
			want, letters = request.Faulty, 1
		}
		assert.Equal(t, want, one.State, "ended at %d: %s", at, one.Why)
		files, err := filepath.Glob(filepath.Join(dir, "requests", "answers", one.ID, "*.txt"))
		require.NoError(t, err)
		assert.Len(t, files, letters, "ended at %d: %s", at, one.Sheet)
		n := 0
		for _, e := range events {
			if e.What == fmt.Sprintf("request %s: %s", one.ID, want) {
				n++
			}
		}
		assert.Equal(t, 1, n, "ended at %d: %s", at, one.Sheet)
	}
	waiting, err := d.Ledger.Letters(ctx)
	require.NoError(t, err)
	assert.Empty(t, waiting)
	known, err := d.Ledger.Machines(ctx)
	require.NoError(t, err)
	assert.Len(t, known, 2, "ended at %d", at)
	begun := 0
	for _, e := range events {
		if e.What == "begun" && strings.HasPrefix(e.Name, "bms-c-") {
			begun++
		}
	}
	assert.GreaterOrEqual(t, begun, 2)
	left, err := filepath.Glob(filepath.Join(dir, "requests", "*.csv"))
	require.NoError(t, err)
	assert.Empty(t, left, "ended at %d", at)
	return points
}
