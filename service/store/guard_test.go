package store

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/plan"
)

// heldParts holds and discards two changes of one entry at once, as one whose access is
// taken away first.
func heldParts(t *testing.T, s *Store) {
	ctx := t.Context()
	a := somebody(1, "CN=A,DC=example")
	run := s.newRun(t)
	empty := func(target string) []change.Diff { return []change.Diff{{Target: target, Before: "x"}} }
	kept := change.Diff{Target: "displayName", Before: "A", After: "B"}
	require.NoError(t, s.Changes.Add(ctx, run, []NewChange{
		{Ref: ref(a), Kind: a.Kind, Operation: plan.Update, Diffs: empty("title")},
		{Ref: ref(a), Kind: a.Kind, Operation: plan.Update, Later: true, Diffs: append(empty("nickName"), kept)},
	}))
	losses, _, err := s.Changes.Losses(ctx, run, 0, 2)
	require.NoError(t, err)
	require.Len(t, losses, 2)
	planned, err := s.Changes.Losing(ctx, run, "planned", 0, 2, 0, 10)
	require.NoError(t, err)
	require.Len(t, planned, 2)
	require.NoError(t, s.Changes.Hold(ctx, []Divided{{Change: planned[0], Waits: planned[0].Diffs}, {Change: planned[1], Waits: planned[1].Diffs[:1], Rest: planned[1].Diffs[1:]}}, true))
	held, err := s.Changes.Held(ctx, run, nil)
	require.NoError(t, err)
	require.Len(t, held, 2)
	waiting, err := s.Dirty.Count(ctx, DirtyQuery{State: DirtyNext})
	require.NoError(t, err)
	assert.Equal(t, 1, waiting, "the next run looks at the entry again")
	rest, err := s.Changes.Next(ctx, run, 1, 0, 10)
	require.NoError(t, err)
	require.Len(t, rest, 1)
	assert.Equal(t, []change.Diff{kept}, rest[0].Diffs, "the rest goes on")
	require.NoError(t, s.Changes.Discard(ctx, held, "ingrid: a mistake"))
	held, err = s.Changes.Held(ctx, run, nil)
	require.NoError(t, err)
	assert.Empty(t, held)
}
