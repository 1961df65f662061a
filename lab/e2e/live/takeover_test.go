package live_test

import (
	"fmt"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/e2e/worldtest"
)

// TestLiveGoesOnWithAnotherService kills one of two services, and stops the other in the
// middle of its work once the first is back: each time changes arrive again within seconds,
// the command line finds the one that answers, and nobody is made twice.
func TestLiveGoesOnWithAnotherService(t *testing.T) {
	t.Parallel()
	const people = 40
	w := worldtest.NewRaced(t, worldtest.LDIFPeople(people))
	standby := w.Standby()
	w.AgentKnows(w.URL, standby)
	ada := adaArrives(w)
	watched(w, "watched")

	w.Service.Kill()
	w.Set(ada, "title", "Purser")
	t.Logf("after the first service was killed: %s", w.Arrives(login, "Purser"))
	w.Set(ada, "title", "Cook")
	assert.Less(t, w.Arrives(login, "Cook"), 10*time.Second)
	out, stderr, status := worldtest.Kambrel(t, "runs", "list", "--service", w.URL+","+standby, "--token", w.Client.Token())
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "live")
	_, stderr, status = worldtest.Kambrel(t, "runs", "list", "--service", w.URL, "--token", w.Client.Token())
	assert.NotZero(t, status, "the one that was killed")
	assert.Contains(t, stderr, "cannot be reached")

	w.StartService()
	require.NoError(t, syscall.Kill(w.Second.PID(), syscall.SIGSTOP))
	w.Set(ada, "title", "Master")
	bo := w.Person("Bo Vik", map[string]string{"title": "Hand"})
	t.Logf("after the second service was stopped: %s", w.Arrives(login, "Master"))
	w.Arrives("bo.vik@brisling.example", "Hand")
	require.NoError(t, syscall.Kill(w.Second.PID(), syscall.SIGCONT))
	for i := range 3 {
		title := fmt.Sprintf("Hand %d", i)
		w.Set(bo, "title", title)
		assert.Less(t, w.Arrives("bo.vik@brisling.example", title), 10*time.Second)
	}
	assert.Equal(t, "Master", w.User(login)["title"], "what was stopped writes nothing old")
	assert.Len(t, worldtest.Users(t, w.Address(), ""), people+2, "and nobody is there twice")
}
