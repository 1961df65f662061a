package sync_test

import (
	"fmt"
	"net/url"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// leave takes people out of scope, from a number to another.
func leave(w *worldtest.World, from, to int) {
	w.T.Helper()
	for n := from; n < to; n++ {
		require.NoError(w.T, w.LDAP.ModifyDN(ldap.NewModifyDNRequest(worldtest.Crew(n), fmt.Sprintf("cn=Crew %05d", n), true, worldtest.Leavers)))
	}
}

// TestWhatGoesOneByOneIsHeldToo takes people and values away a few at a time, as a script
// does while changes come in live: together they are as many as the guard stops at once.
func TestWhatGoesOneByOneIsHeldToo(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(60))
	d := worldtest.Document()
	d.Guard = settings.Guard{Removals: 3, Within: "1h", Values: &settings.Limit{Number: 3}}
	w.Activate(d)
	w.InStep(60)
	active := func() int { return len(worldtest.Users(t, w.Address(), "active eq true")) }
	sync := func(held int) wire.Run {
		t.Helper()
		run := w.Run(wire.NewRun{})
		require.NotEqual(t, progress.Failed, run.State, "%+v", run.Failure)
		require.Equal(t, held, run.Counts.Held, "%+v", run.Counts)
		return run
	}
	leave(w, 0, 2)
	sync(0)
	assert.Equal(t, 58, active())
	leave(w, 2, 4)
	rehearsed := w.Run(wire.NewRun{Purpose: purpose.Forecast})
	assert.Equal(t, []int{2, 2}, []int{rehearsed.Counts.Held, rehearsed.Counts.Earlier}, "%+v", rehearsed.Counts)
	run := sync(2)
	assert.Equal(t, 2, run.Counts.Earlier)
	assert.Equal(t, 58, active(), "two and two are four")
	out, _, status := w.Kambrel("sync")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "2 went before, since ")
	out, _, _ = w.Kambrel("health")
	assert.Contains(t, out, "2 went before, since ")
	leave(w, 4, 5)
	run = sync(3)
	assert.Equal(t, 58, active())

	// Somebody comes back, and what is left is still too much.
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest("cn=Crew 00004,"+worldtest.Leavers, "cn=Crew 00004", true, worldtest.People)))
	run = sync(2)

	// What is let through in part leaves the rest waiting.
	held, err := w.Client.Changes(t.Context(), run.ID, url.Values{"state": {"held"}})
	require.NoError(t, err)
	require.Len(t, held.Items, 2)
	released, err := w.Client.Release(t.Context(), run.ID, held.Items[0].ID)
	require.NoError(t, err)
	assert.Equal(t, []int{1, 1}, []int{w.Wait(released.ID).Counts.Done, w.Wait(released.ID).Counts.Held})
	assert.Equal(t, 57, active())
	run = sync(1)

	// What an operator has let through as a whole was decided about: a new count begins.
	released, err = w.Client.Release(t.Context(), run.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, w.Wait(released.ID).Counts.Done)
	leave(w, 10, 13)
	sync(0)
	assert.Equal(t, 53, active())
	leave(w, 13, 14)
	sync(1)

	// The same of values that are emptied.
	empty := func(from, to int) {
		for n := from; n < to; n++ {
			request := ldap.NewModifyRequest(worldtest.Crew(n), nil)
			request.Delete("title", nil)
			require.NoError(t, w.LDAP.Modify(request))
		}
	}
	empty(20, 22)
	sync(1)
	empty(22, 25)
	run = sync(4)
	assert.Equal(t, "suspend or delete 1 person, empty title of 3 people", run.Counts.HeldText())

	// Each run by itself.
	d.Guard.Within = "0s"
	w.Activate(d)
	sync(0)
	assert.Equal(t, 52, active())
}

// TestWhatIsHeldDoesNotGoByWaiting lets the time go by in which what went counts: what is
// held then stays so.
func TestWhatIsHeldDoesNotGoByWaiting(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(30))
	d := worldtest.Document()
	const within = 12 * time.Second
	d.Guard = settings.Guard{Removals: 3, Within: within.String()}
	w.Activate(d)
	w.InStep(30)
	leave(w, 0, 3)
	w.InStep(3)
	gone := time.Now()
	leave(w, 3, 5)
	require.Equal(t, 2, w.Run(wire.NewRun{}).Counts.Held)
	for over := false; !over; {
		over = time.Since(gone) > within
		require.Equal(t, 2, w.Run(wire.NewRun{}).Counts.Held)
	}
	// While the directory is away nobody is decided about, and nothing is forgotten.
	require.NoError(t, w.Directory.Process.Stop())
	require.Equal(t, progress.Failed, w.Run(wire.NewRun{}).State)
	w.RestartDirectory()
	require.Equal(t, 2, w.Run(wire.NewRun{}).Counts.Held)
	assert.Len(t, worldtest.Users(t, w.Address(), "active eq true"), 27)
}
