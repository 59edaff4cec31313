package ledger

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

// The first report with a token counts; a later seed makes the earlier token void, and what a
// guest of another generation has reported is not this one's.
func TestCalls(t *testing.T) { everywhere(t, calls) }

func calls(t *testing.T, path string) {
	l, ctx, key := opened(t, path), t.Context(), machine.Key{Site: "quay", Name: "bms-tide-01"}
	took := func(digest, hostname string, want bool) {
		t.Helper()
		known, err := l.TakeCall(ctx, digest, &contract.Report{Hostname: hostname})
		require.NoError(t, err)
		assert.Equal(t, want, known)
	}
	said := func(generation int) string {
		t.Helper()
		report, err := l.Called(ctx, key, generation)
		require.NoError(t, err)
		if report == nil {
			return ""
		}
		return report.Hostname
	}
	took("a", "early", false)
	require.NoError(t, l.ExpectCall(ctx, key, 1, "a"))
	assert.Empty(t, said(1))
	took("b", "other", false)
	took("a", "first", true)
	took("a", "second", true)
	assert.Equal(t, "first", said(1))
	assert.Empty(t, said(2))
	require.NoError(t, l.ExpectCall(ctx, key, 1, "c"))
	took("a", "void", false)
	assert.Empty(t, said(1))
	took("c", "third", true)
	require.NoError(t, l.Finish(ctx, "r", machine.Machine{Key: key}, "made", ""))
	assert.Empty(t, said(1))
	took("c", "late", false)
}
