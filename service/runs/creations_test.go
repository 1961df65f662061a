package runs

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/service/store"
)

// TestNothingIsMadeTwiceInARun asks the last guard before a creation is sent,
// which no plan can talk out of it.
func TestNothingIsMadeTwiceInARun(t *testing.T) {
	t.Parallel()
	creation := func(key string) pending {
		return pending{Change: store.Change{Kind: entry.User, Operation: string(plan.Create), EntryID: key, Diffs: []change.Diff{{Target: "externalId", After: key}}}}
	}
	var c creations
	require.NoError(t, c.begin(creation("a")))
	require.NoError(t, c.begin(creation("a")), "one that was not answered may be tried again")
	c.end(creation("a"))
	assert.Equal(t, problem.SecondResource, problem.CodeOf(c.begin(creation("a"))))
	require.NoError(t, c.begin(creation("b")))
	c.stop(entry.Group)
	assert.True(t, c.isStopped(entry.Group))
	assert.False(t, c.isStopped(entry.User))
}
