package ledger

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/quota"
	"mintbatch/internal/core/request"
)

// A request is kept once, and of two who change it at once one does; letters are there until they are delivered.
func TestRequests(t *testing.T) {
	everywhere(t, func(t *testing.T, name string) {
		ctx, l, other := t.Context(), opened(t, name), opened(t, name)
		r := request.Request{ID: "aaaa", Sender: "tide desk", Sheet: "a.csv", State: request.Received, Received: time.Now().UTC().Round(0)}
		require.NoError(t, l.AddRequest(ctx, r, []byte{0, 0xff}))
		require.NoError(t, other.AddRequest(ctx, request.Request{ID: "aaaa", Sender: "somebody else"}, nil))
		sheet, err := other.RequestSheet(ctx, "aaaa")
		require.NoError(t, err)
		assert.Equal(t, []byte{0, 0xff}, sheet)
		all, err := l.Requests(ctx)
		require.NoError(t, err)
		assert.Equal(t, []request.Request{r}, all)
		r.State = request.Faulty
		require.NoError(t, l.ChangeRequest(ctx, r, request.Letter{ID: "1", Text: "sorry"}))
		assert.ErrorIs(t, other.ChangeRequest(ctx, r, request.Letter{ID: "2"}), ErrRequestChanged)
		letters, err := other.Letters(ctx)
		require.NoError(t, err)
		require.Len(t, letters, 1)
		assert.Equal(t, "sorry", letters[0].Text)
		require.NoError(t, other.Delivered(ctx, "1"))
		letters, err = l.Letters(ctx)
		require.NoError(t, err)
		assert.Empty(t, letters)
		_, err = l.Request(ctx, "bbbb")
		assert.ErrorIs(t, err, ErrNoRequest)
	})
}

// What a run has claimed counts for quotas until the machine is there, or the run is over.
func TestClaimed(t *testing.T) {
	everywhere(t, func(t *testing.T, name string) {
		ctx, l := t.Context(), opened(t, name)
		uses := &quota.Use{Owner: "tide desk", Amounts: quota.Amounts{1, 2}}
		require.NoError(t, l.StartRun(ctx, Run{ID: "r1", Command: "mint"}, []Claim{{Key: one("a").Key, Uses: uses}, {Key: one("b").Key}}, nil))
		claimed, err := l.Claimed(ctx)
		require.NoError(t, err)
		assert.Equal(t, map[machine.Key]quota.Use{one("a").Key: {Site: one("a").Site, Owner: "tide desk", Amounts: quota.Amounts{1, 2}}}, claimed)
		require.NoError(t, l.Begin(ctx, "r1", one("a"), 1, machine.Origin{}, nil))
		named, err := l.MachinesNamed(ctx, []string{"a", "b"})
		require.NoError(t, err)
		require.Len(t, named, 1)
		require.NoError(t, l.Finish(ctx, "r1", one("a"), "made", ""))
		claimed, err = l.Claimed(ctx)
		require.NoError(t, err)
		assert.Empty(t, claimed)
		require.NoError(t, l.EndRun(ctx, "r1", "done"))
	})
}
