package e2e

import (
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/protocol/wire"
)

// TestRehearsalsRunBesideARunThatWrites holds a run while it writes, and starts
// everything that only looks: all of it ends before the run does.
func TestRehearsalsRunBesideARunThatWrites(t *testing.T) {
	t.Parallel()
	held, release := make(chan struct{}), make(chan struct{})
	var once sync.Once
	between := &between{}
	between.takes(func(_ http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodPost {
			once.Do(func() {
				close(held)
				<-release
			})
		}
		return false
	})
	w := newWorldWith(t, ldifPeople(5), options{raced: true, between: between})
	w.activate(document())
	run, err := w.client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	<-held

	var beside []wire.Run
	for _, why := range []purpose.Purpose{purpose.Rehearsal, purpose.Forecast} {
		one, err := w.client.StartRun(t.Context(), wire.NewRun{Purpose: why})
		require.NoError(t, err)
		beside = append(beside, one)
	}
	survey, err := w.client.StartSurvey(t.Context(), wire.NewSurvey{})
	require.NoError(t, err)
	trial, err := w.client.Try(t.Context(), wire.NewTrial{Text: "crew00000@brisling.example"})
	require.NoError(t, err)
	for _, one := range append(beside, survey) {
		ended := w.wait(one.ID)
		assert.NotEqual(t, progress.Failed, ended.State, "%s: %+v", one.Purpose, ended.Failure)
	}
	assert.NotEqual(t, progress.Failed, w.wait(trial.RunID).State)
	now, err := w.client.Run(t.Context(), run.ID)
	require.NoError(t, err)
	assert.Equal(t, progress.Running, now.State, "the run was held all the time")
	close(release)
	ended := w.wait(run.ID)
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
	between := &between{}
	w := newWorldWith(t, ldifPeople(3), options{raced: true, between: between})
	w.activate(document())
	between.takes(func(_ http.ResponseWriter, r *http.Request) bool {
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
	rehearsal, err := w.client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Forecast})
	require.NoError(t, err)
	<-reading
	health, err := w.client.Health(t.Context())
	require.NoError(t, err)
	require.Len(t, health.Beside, 1, "a page that is opened now finds it")
	assert.Equal(t, rehearsal.ID, health.Beside[0].ID)
	ended := w.run(wire.NewRun{})
	assert.Equal(t, progress.InStep, ended.State)
	assert.Equal(t, 3, ended.Counts.Done)
	<-gaveUp
	after := w.wait(rehearsal.ID)
	assert.Equal(t, progress.InStep, after.State, "it went on by what the run has read: %+v", after.Failure)
}
