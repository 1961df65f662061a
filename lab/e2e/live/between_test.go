package live_test

import (
	"net/http"
	"slices"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestALiveChangeGoesBeforeTheRestOfAFirstRun changes people while a first run writes to a
// slow cloud: they need not wait for its end, whatever it had planned for them, and nothing
// is made twice, not even when the service is killed in between.
func TestALiveChangeGoesBeforeTheRestOfAFirstRun(t *testing.T) {
	t.Parallel()
	const crew = 4000
	slow := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.LDIFPeople(crew)+worldtest.TeamsLDIF, worldtest.Options{Raced: true, Between: slow})
	slow.Takes(func(_ http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodPost {
			<-time.After(time.Second) // a slow cloud is what is tried here
		}
		return false
	})
	d := worldtest.WithGroups()
	d.Schedule.Live = "on"
	w.Activate(d)
	first, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	watched(w, "watched")
	require.True(t, w.AwaitMoment(first.ID, func(r wire.Run) bool { return r.Counts.Done > 0 }))
	goesOn := func() {
		t.Helper()
		run, err := w.Client.Run(t.Context(), first.ID)
		require.NoError(t, err)
		require.False(t, run.State.Ended(), "the first run goes on")
	}

	// Somebody new, somebody whom the first run has planned and not made yet, with another
	// title, and somebody who is gone before being made.
	w.Person("Ada Lind", map[string]string{"title": "Pilot"})
	w.Set(worldtest.Crew(3990), "title", "Cook")
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(worldtest.Crew(3991), nil)))
	t.Logf("somebody new after %s", w.Arrives(login, "Pilot"))
	goesOn()
	t.Logf("the other title after %s more", w.Arrives("crew03990@brisling.example", "Cook"))
	goesOn()

	// An operator needs not wait either.
	w.Says([]string{"trial", worldtest.Crew(3995), "--write"}, "create")
	assert.NotNil(t, w.User("crew03995@brisling.example"))
	goesOn()

	// The service is killed while the run in between makes a group, of which a cloud would
	// make two.
	w.Group("Night watch", worldtest.Crew(1))
	var inBetween wire.Run
	require.Eventually(t, func() bool {
		page, err := w.Client.Runs(t.Context(), nil)
		require.NoError(t, err)
		at := slices.IndexFunc(page.Items, func(r wire.Run) bool {
			return r.ID > first.ID && r.Stage == "write" && r.Counts.Create > 0 && !r.State.Ended()
		})
		if at >= 0 {
			inBetween = page.Items[at]
		}
		return at >= 0
	}, 30*time.Second, 5*time.Millisecond)
	w.Service.Kill()
	slow.Takes(nil)
	w.StartService()

	run := w.Wait(first.ID)
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	assert.Equal(t, progress.InStep, w.Wait(inBetween.ID).State)
	assert.Len(t, worldtest.Users(t, w.Address(), ""), crew, "one more, and one who was gone before")
	assert.Nil(t, w.User("crew03991@brisling.example"))
	assert.Len(t, worldtest.Resources(t, w.Address(), "Groups"), 1)
	assert.Equal(t, []string{"crew00001"}, worldtest.Members(t, w.Address(), "Night watch"))
	full := w.Run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
}
