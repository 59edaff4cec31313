package ledger

import (
	"bytes"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/machine"
)

// All that the ledger has of a machine goes with its new name, and comes back by an export;
// its old name has spent the generation.
func TestRename(t *testing.T) { everywhere(t, rename) }

func rename(t *testing.T, path string) {
	l, ctx, data := opened(t, path), t.Context(), []uuid.UUID{uuid.New()}
	a, b := one("a"), one("b")
	for _, m := range []machine.Machine{a, b} {
		require.NoError(t, l.StartRun(ctx, Run{ID: "r" + m.Name, Command: "mint"}, Claims(m.Key), nil))
		require.NoError(t, l.Begin(ctx, "r"+m.Name, m, 3, machine.Origin{Data: data}, nil))
		require.NoError(t, l.Seal(ctx, m.Key, "key of "+m.Name, map[string]string{"password": "sealed"}))
		require.NoError(t, l.Finish(ctx, "r"+m.Name, m, "made", ""))
		require.NoError(t, l.Reserve(ctx, m.Key, held(m.Name, "198.51.100."+map[string]string{"a": "7", "b": "8"}[m.Name])))
		require.NoError(t, l.EndRun(ctx, "r"+m.Name, "done"))
	}
	to := one("c")
	assert.ErrorContains(t, l.Rename(ctx, "r", a.Key, one("B")), "has a machine")
	require.NoError(t, l.Rename(ctx, "r", a.Key, to))
	check := func(l *Ledger) {
		t.Helper()
		known, err := l.Machines(ctx)
		require.NoError(t, err)
		require.Len(t, known, 2)
		c := known[1]
		assert.Equal(t, to.Key, c.Key)
		assert.Equal(t, machine.Origin{Born: "a", Former: []string{"a"}, Data: data}, c.Origin)
		assert.Equal(t, machine.Identity(l.ID, a.Key, 3), c.ID(l.ID))
		assert.Equal(t, "key of a", c.HostKey)
		reserved, err := l.Reservations(ctx)
		require.NoError(t, err)
		assert.Equal(t, []string{"c", "b"}, []string{reserved[0].Machine, reserved[1].Machine})
		_, err = l.Secret(ctx, to.Key, "password")
		require.NoError(t, err)
		spent, err := l.LastGenerations(ctx)
		require.NoError(t, err)
		assert.Equal(t, map[machine.Key]int{a.Key: 3}, spent)
	}
	check(l)
	var lines bytes.Buffer
	require.NoError(t, l.Export(ctx, &lines))
	copied := opened(t, t.TempDir()+"/copy")
	_, err := copied.Import(ctx, &lines)
	require.NoError(t, err)
	check(copied)
}
