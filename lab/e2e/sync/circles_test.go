package sync_test

import (
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestPeopleExchangeTheirLogins lets two people exchange theirs, and four others pass
// theirs on in a circle: one run brings it about, with the same resources.
func TestPeopleExchangeTheirLogins(t *testing.T) {
	t.Parallel()
	for _, other := range []bool{false, true} {
		t.Run(fmt.Sprintf("on another cloud: %v", other), func(t *testing.T) {
			t.Parallel()
			w := worldtest.NewWith(t, worldtest.LDIFPeople(8), worldtest.Options{Other: other})
			w.Activate(worldtest.Document())
			w.InStep(8)
			login := func(i int) string { return fmt.Sprintf("crew%05d@brisling.example", i) }
			before := map[int]any{}
			for i := range 8 {
				before[i] = w.User(login(i))["id"]
			}
			exchanged := map[int]int{0: 1, 1: 0, 2: 3, 3: 4, 4: 5, 5: 2} // whose login each gets
			for who, whose := range exchanged {
				w.Set(worldtest.Crew(who), "mail", login(whose))
			}
			rehearsed := w.Run(wire.NewRun{Purpose: purpose.Rehearsal})
			assert.Equal(t, 6, rehearsed.Counts.Update, "%+v", rehearsed.Counts)
			assert.Zero(t, rehearsed.Counts.Problems)
			run := w.Run(wire.NewRun{})
			require.Equal(t, progress.InStep, run.State, "%+v", run.Counts)
			assert.Zero(t, run.Counts.Create+run.Counts.Suspend)
			for who, whose := range exchanged {
				user := w.User(login(whose))
				require.NotNil(t, user, login(whose))
				assert.Equal(t, before[who], user["id"], "%d has the login of %d", who, whose)
				assert.Contains(t, fmt.Sprint(user["emails"]), login(whose))
			}
			assert.Zero(t, passing(t, w))
			w.InStep(0)
			full := w.Run(wire.NewRun{Purpose: purpose.Full})
			assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
		})
	}
}

// TestAnExchangeIsFinishedAfterAKill kills the service while somebody bears a value in
// passing: the run that is taken up ends with everybody's right login.
func TestAnExchangeIsFinishedAfterAKill(t *testing.T) {
	t.Parallel()
	between := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.LDIFPeople(3), worldtest.Options{Between: between})
	w.Activate(worldtest.Document())
	w.InStep(3)
	login := func(i int) string { return fmt.Sprintf("crew%05d@brisling.example", i) }
	first, second := w.User(login(0))["id"], w.User(login(1))["id"]
	for i := range 2 {
		w.Set(worldtest.Crew(i), "mail", login(1-i))
	}
	var once sync.Once
	stuck, passed := make(chan struct{}), atomic.Bool{}
	between.Takes(func(answer http.ResponseWriter, r *http.Request) bool {
		switch {
		case r.Method == http.MethodGet:
			return false
		case strings.Contains(worldtest.BodyOf(r), "passing-"):
			passed.Store(true)
			return false
		case passed.Load():
			once.Do(func() { close(stuck) })
			answer.WriteHeader(http.StatusServiceUnavailable)
			return true
		}
		return false
	})
	run, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
	require.NoError(t, err)
	<-stuck
	w.Service.Kill()
	require.Equal(t, 1, passing(t, w), "killed in between")
	between.Takes(nil)
	w.StartService()
	require.Equal(t, progress.InStep, w.Wait(run.ID).State)
	assert.Equal(t, first, w.User(login(1))["id"])
	assert.Equal(t, second, w.User(login(0))["id"])
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 3)
	w.InStep(0)
}

// passing counts who bears a login in passing.
func passing(t *testing.T, w *worldtest.World) int {
	t.Helper()
	n := 0
	for _, user := range worldtest.Users(t, w.Address(), "") {
		if strings.HasPrefix(fmt.Sprint(user["userName"]), "passing-") {
			n++
		}
	}
	return n
}
