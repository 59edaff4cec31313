package mint_test

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/entry"
	"mintbatch/internal/enrol"
	"mintbatch/internal/mint"
	"mintbatch/internal/run"
)

// account is one of a domain that is only in memory.
type account struct {
	values          []string
	owner, password string
}

type domain struct {
	mu  sync.Mutex
	all map[string]account
}

func (d *domain) Look(_ context.Context, names []string) ([]entry.Seen, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	all := make([]entry.Seen, len(names))
	for i, name := range names {
		all[i] = entry.Seen{Name: name, Values: d.all[name].values, Owner: d.all[name].owner}
	}
	return all, nil
}

func (d *domain) Change(_ context.Context, c entry.Change) error { return d.do(c, "") }

func (d *domain) SetPassword(_ context.Context, c entry.Change, password string) error {
	return d.do(c, password)
}

func (d *domain) do(c entry.Change, password string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	a := d.all[c.Name]
	verdict, err := c.Judge(entry.Seen{Name: c.Name, Values: a.values, Owner: a.owner})
	switch {
	case err != nil || verdict == entry.Nothing:
		return err
	case len(c.Want) == 0:
		delete(d.all, c.Name)
		return nil
	case password != "":
		a.password = password
	}
	a.values, a.owner = c.Want, c.Owner.String()
	d.all[c.Name] = a
	return nil
}

// mortalDomain is a domain as a run that may die sees it.
type mortalDomain struct{ mortalSystem }

func (m mortalDomain) SetPassword(ctx context.Context, c entry.Change, password string) error {
	if err := m.death.point("before password"); err != nil {
		return err
	}
	if err := m.System.(enrol.Domain).SetPassword(ctx, c, password); err != nil {
		return err
	}
	if dead := m.death.point("after password"); dead != nil {
		return dead
	}
	if m.lose.once("password") {
		return fmt.Errorf("%w: the reply was lost", enrol.ErrUnreachable)
	}
	return nil
}

// in makes a domain one that a world's machines are entered in.
func (d *domain) in(w *world) *world {
	w.also = func(t testing.TB, s *mint.Desk, die, lose *death) {
		require.NoError(t, s.Around.Use("accounts", func(enrol.System) enrol.System { return mortalDomain{mortalSystem{d, die, lose}} }))
	}
	return w
}

// Wherever a run is ended, and whichever reply is lost, in the end each machine has its account, with the password that is in its
// seed, and machines that are gone have none.
func TestAccountsSurviveCrashes(t *testing.T) {
	const first, then = "machine,preset,site,cpus,hostname,enrol\nbms-same,node,quay,,,accounts\nbms-remake,node,quay,,,accounts\nbms-gone,node,quay,,,accounts\n",
		"machine,preset,site,cpus,hostname,enrol\nbms-same,node,quay,2,,accounts\nbms-remake,node,quay,,renamed,accounts\nbms-new,node,quay,,,accounts\n"
	base := t.TempDir()
	old := &domain{all: map[string]account{"theirs$": {values: []string{entry.Enabled}, owner: "", password: "own"}}}
	w := served(t, base)
	path := filepath.Join(base, "mintbatch.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(string(text)+"\ndirectory: {accounts: {kind: ad, url: \"ldaps://127.0.0.1:1\", domain: brackwater.example}}\n"), 0o600))
	require.NoError(t, old.in(w).run(t, first, &death{}, &death{}))
	w.stop()
	again := copies(t, base)
	settled := func(die, lose *death) {
		now := &domain{all: maps.Clone(old.all)}
		w := now.in(again())
		defer func() { w.stop(); _ = os.RemoveAll(w.dir) }()
		_ = w.run(t, then, die, lose)
		what := fmt.Sprintf("dead at %d, %s; reply %d was lost, of %s", die.at, die.where, lose.at, lose.where)
		if err := w.run(t, then, &death{}, &death{}); err != nil {
			var incomplete *mint.Incomplete
			require.True(t, errors.As(err, &incomplete), "%s: %s", what, err)
			require.NoError(t, w.run(t, then, &death{}, &death{}), what)
		}
		s := w.open(t, &death{}, &death{})
		defer s.Close()
		known, err := s.Ledger.Machines(t.Context())
		require.NoError(t, err)
		require.Len(t, known, 3, what)
		require.Len(t, now.all, 4, "%s: %v", what, now.all)
		for _, k := range known {
			a, sealed := now.all[entry.AccountName(k.Spec().Guest.Hostname)], ""
			sealed, err = s.Vault.Unseal(t.Context(), k.Key, run.SealedAccount)
			require.NoError(t, err, what)
			assert.Equal(t, sealed, a.password, "%s: %s", what, k.Key)
			assert.Equal(t, old.all["bms-same$"].password == a.password, k.Name == "bms-same", "%s: %s", what, k.Key)
			assert.True(t, strings.HasSuffix(a.owner, "machine="+k.Key.String()), what)
		}
		assert.Equal(t, old.all["theirs$"], now.all["theirs$"], what)
	}
	count := &death{}
	settled(count, &death{})
	require.Greater(t, count.count, 50)
	for at := 1; at <= count.count; at += amount(29, 19, 3) {
		settled(&death{at: at}, &death{})
		settled(&death{}, &death{at: at})
	}
}
