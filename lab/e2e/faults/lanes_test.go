package faults_test

import (
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestRehearsalsRunBesideARunThatWrites holds a run while it writes, and starts
// everything that only looks: all of it ends before the run does.
func TestRehearsalsRunBesideARunThatWrites(t *testing.T) {
	t.Parallel()
	held, release := make(chan struct{}), make(chan struct{})
	var once sync.Once
	between := &worldtest.Between{}
	between.Takes(func(_ http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodPost {
			once.Do(func() {
				close(held)
				<-release
			})
		}
		return false
	})
	w := worldtest.NewWith(t, worldtest.LDIFPeople(5), worldtest.Options{Raced: true, Between: between})
	w.Activate(worldtest.Document())
	run, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	<-held

	var beside []wire.Run
	for _, why := range []purpose.Purpose{purpose.Rehearsal, purpose.Forecast} {
		one, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: why})
		require.NoError(t, err)
		beside = append(beside, one)
	}
	survey, err := w.Client.StartSurvey(t.Context(), wire.NewSurvey{})
	require.NoError(t, err)
	trial, err := w.Client.Try(t.Context(), wire.NewTrial{Text: "crew00000@brisling.example"})
	require.NoError(t, err)
	for _, one := range append(beside, survey) {
		ended := w.Wait(one.ID)
		assert.NotEqual(t, progress.Failed, ended.State, "%s: %+v", one.Purpose, ended.Failure)
	}
	assert.NotEqual(t, progress.Failed, w.Wait(trial.RunID).State)
	now, err := w.Client.Run(t.Context(), run.ID)
	require.NoError(t, err)
	assert.Equal(t, progress.Running, now.State, "the run was held all the time")
	close(release)
	ended := w.Wait(run.ID)
	assert.Equal(t, progress.InStep, ended.State)
	assert.Equal(t, 5, ended.Counts.Create, "and what looked has changed nothing for it")
	assert.Equal(t, 5, ended.Counts.Done)
}

// TestAReadingGivesWayToARunThatWrites lets a rehearsal read a cloud that answers
// nothing: a run that comes then does not wait for it.
func TestAReadingGivesWayToARunThatWrites(t *testing.T) {
	t.Parallel()
	reading, gaveUp := make(chan struct{}), make(chan struct{})
	var once sync.Once
	between := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.LDIFPeople(3), worldtest.Options{Raced: true, Between: between})
	w.Activate(worldtest.Document())
	between.Takes(func(_ http.ResponseWriter, r *http.Request) bool {
		taken := false
		if r.Method == http.MethodGet && strings.HasSuffix(r.URL.Path, "/Users") {
			once.Do(func() {
				taken = true
				close(reading)
				<-r.Context().Done()
				close(gaveUp)
			})
		}
		return taken
	})
	rehearsal, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Forecast})
	require.NoError(t, err)
	<-reading
	health, err := w.Client.Health(t.Context())
	require.NoError(t, err)
	require.Len(t, health.Beside, 1, "a page that is opened now finds it")
	assert.Equal(t, rehearsal.ID, health.Beside[0].ID)
	ended := w.Run(wire.NewRun{})
	assert.Equal(t, progress.InStep, ended.State)
	assert.Equal(t, 3, ended.Counts.Done)
	<-gaveUp
	after := w.Wait(rehearsal.ID)
	assert.Equal(t, progress.InStep, after.State, "it went on by what the run has read: %+v", after.Failure)
}
