package views_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/survey"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

func TestRunsSayWhyTheyFailed(t *testing.T) {
	t.Parallel()
	well := views.Run(store.Run{ID: 7})
	assert.Nil(t, well.Failure)
	assert.NotNil(t, well.Stages, "a list in JSON, not null")
	failed := views.Run(store.Run{ID: 8, FailureCode: string(problem.CloudUnreachable), FailureDetail: "connection refused"})
	require.NotNil(t, failed.Failure)
	assert.Equal(t, "connection refused", failed.Failure.Detail)
	assert.Equal(t, problem.Describe(problem.CloudUnreachable).Remedy, failed.Failure.Remedy)
}

func TestChangesThatAreBlockedSayWhatCanBeDone(t *testing.T) {
	t.Parallel()
	facts, err := json.Marshal(problem.Facts{Resources: []problem.Resource{{ID: "r1"}}})
	require.NoError(t, err)
	blocked := store.Change{ID: 1, State: "blocked", Directory: "hq", EntryID: uuid.NewString(), Code: string(problem.NearMiss), Facts: facts}
	view, err := views.Change(blocked)
	require.NoError(t, err)
	require.NotEmpty(t, view.Remedies)
	assert.NotNil(t, view.Diffs)
	blocked.State = "superseded"
	view, err = views.Change(blocked)
	require.NoError(t, err)
	assert.Empty(t, view.Remedies, "what is past needs none")
	blocked.State, blocked.Facts = "blocked", []byte("{")
	_, err = views.Changes([]store.Change{{ID: 2}, blocked})
	assert.ErrorContains(t, err, "facts of change 1")
}

func TestWhatHangsOnARemovalIsToldApart(t *testing.T) {
	t.Parallel()
	held := store.Change{State: "held", Rank: store.RankReferences, Directory: "hq", EntryID: uuid.NewString()}
	for want, c := range map[bool][]store.Change{
		true:  {held},
		false: {{State: "held", EntryID: held.EntryID}, {State: "held", Rank: held.Rank, Losses: []string{"members members"}}, {State: "planned", Rank: held.Rank}},
	} {
		for _, one := range c {
			view, err := views.Change(one)
			require.NoError(t, err)
			assert.Equal(t, want, view.Hangs, "%+v", one)
		}
	}
}

func TestFindingsSayWhatTheirKindMeans(t *testing.T) {
	t.Parallel()
	for _, kind := range survey.Catalogue() {
		view := views.FindingGroup(store.FindingGroup{Code: kind.Code, Count: 3, Repairable: 2})
		assert.NotEmpty(t, view.Title, kind.Code)
		assert.NotEmpty(t, view.Remedy, kind.Code)
		assert.Equal(t, [2]int{3, 2}, [2]int{view.Count, view.Repairable})
	}
}

func TestRepairsGoOnWhileAValueWaits(t *testing.T) {
	t.Parallel()
	for want, repair := range map[string]store.Repair{
		"running":  {Waiting: 1, Failed: 1, Done: 1},
		"problems": {Failed: 1, Done: 1},
		"done":     {Done: 2, Items: []store.RepairItem{{Number: 4, Before: "a", After: "b"}}},
	} {
		view := views.Repair(repair)
		assert.Equal(t, want, view.State)
		assert.Len(t, view.Items, len(repair.Items))
	}
}

func TestAgentsAreOnlineWhileTheyAsk(t *testing.T) {
	t.Parallel()
	recently, longAgo := time.Now().Add(-20*time.Second), time.Now().Add(-2*time.Minute)
	for want, contact := range map[string]*time.Time{"never-seen": nil, "online": &recently, "offline": &longAgo} {
		view := views.Agent(store.Agent{Directories: []string{"hq", "lab"}, Granted: []string{"hq"}, LastContact: contact})
		assert.Equal(t, want, view.State)
		assert.Equal(t, []string{"hq"}, view.Directories)
		assert.Equal(t, []string{"lab"}, view.Asks, "nobody has granted it")
		assert.NotNil(t, view.Plain)
	}
	assert.NotNil(t, views.Agent(store.Agent{}).Granted)
}
