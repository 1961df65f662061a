package sync_test

import (
	"fmt"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestACloudThatListsMembersInParts lets the cloud list five members of a group at most:
// that is told apart from one that loses the others, nobody is added again and again, and
// whoever goes goes.
func TestACloudThatListsMembersInParts(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.TeamsLDIF, worldtest.Options{Cloud: []string{"--habits", "members-cut"}})
	people := make([]string, 12)
	for i := range people {
		people[i] = w.Person(fmt.Sprintf("Crew %02d", i), nil)
	}
	crew := w.Group("Crew", people...)
	w.Activate(worldtest.WithGroups())
	has := func(i int) bool {
		t.Helper()
		id := idOf(w, "Users", fmt.Sprintf("crew.%02d@brisling.example", i))
		_, page := worldtest.SCIM(t, w.Address(), "GET", w.Cloud.URL+"/Groups?filter="+url.QueryEscape(fmt.Sprintf("members.value eq %q", id)), nil)
		return fmt.Sprint(page["totalResults"]) == "1"
	}
	count := func() (n int) {
		t.Helper()
		for i := range people {
			if has(i) {
				n++
			}
		}
		return n
	}
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	require.Equal(t, 12, count())
	for _, why := range []purpose.Purpose{purpose.Full, purpose.Full} {
		run = w.Run(wire.NewRun{Purpose: why})
		require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
		assert.Zero(t, run.Counts.Changes, "%s: %+v", why, run.Counts)
	}
	w.Says([]string{"cloud", "show"}, "whole member lists", "5 members of a group are listed")
	w.Says([]string{"show", "Crew"}, "the cloud has what is shown")

	w.Member(crew, false, people[2])
	w.Member(crew, false, people[11])
	run = w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	assert.Equal(t, 10, count())
	assert.False(t, has(2) || has(11))
	run = w.Run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, run.Counts.Changes, "%+v", run.Counts)
}
