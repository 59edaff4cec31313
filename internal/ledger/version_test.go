package ledger

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
)

// A number is given out once, for one content, and gone on with by whoever makes the same again.
func TestNumbersOfVersions(t *testing.T) {
	everywhere(t, func(t *testing.T, name string) {
		ctx := context.Background()
		l, err := Open(ctx, name)
		require.NoError(t, err)
		defer l.Close()
		at := func(site, digest string, number int) Version {
			return Version{Site: site, Version: contract.Version{Of: "deb12-base", Number: number, Digest: digest}}
		}
		begin := func(v Version, least int) Version {
			t.Helper()
			begun, err := l.BeginVersion(ctx, v, least)
			require.NoError(t, err)
			return begun
		}
		one := begin(at("quay", "a", 0), 0)
		assert.Equal(t, 1, one.Number)
		assert.Equal(t, 1, begin(at("quay", "a", 0), 0).Number, "it was begun and is gone on with")
		one.State = VersionMade
		require.NoError(t, l.PutVersion(ctx, one))
		assert.Equal(t, 2, begin(at("quay", "b", 0), 0).Number)
		assert.Equal(t, 8, begin(at("quay", "c", 0), 7).Number, "sites have more")
		assert.Equal(t, 1, begin(at("vessel", "a", 1), 0).Number, "the same one at another site")
		_, err = l.BeginVersion(ctx, at("vessel", "z", 1), 0)
		assert.ErrorIs(t, err, ErrVersionTaken)
		one.State = VersionDropping
		require.NoError(t, l.PutVersion(ctx, one))
		_, err = l.BeginVersion(ctx, at("quay", "a", 1), 0)
		assert.ErrorIs(t, err, ErrVersionTaken, "what is being deleted is not gone on with")
		one.State = VersionDropped
		require.NoError(t, l.PutVersion(ctx, one))
		assert.Equal(t, VersionMaking, begin(at("quay", "a", 1), 0).State, "it comes back from elsewhere")
		assert.Equal(t, 9, begin(at("quay", "d", 0), 0).Number)
		all, err := l.Versions(ctx)
		require.NoError(t, err)
		assert.Len(t, all, 5)
	})
}
