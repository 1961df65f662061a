package sync_test

import (
	"fmt"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestValuesThatManyWouldLoseAreHeld empties one attribute of many, as a read right
// that was lost does, and changes another one of each: the other goes on.
func TestValuesThatManyWouldLoseAreHeld(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(60))
	w.Activate(worldtest.Document())
	w.InStep(60)
	dn := worldtest.Crew
	title := func(i int) any { return w.User(fmt.Sprintf("crew%05d@brisling.example", i))["title"] }
	for i := range 32 {
		request := ldap.NewModifyRequest(dn(i), nil)
		request.Delete("title", nil)
		request.Replace("telephoneNumber", []string{fmt.Sprint("+47 ", i)})
		require.NoError(t, w.LDAP.Modify(request))
	}
	w.Set(dn(40), "title", "Mate")
	rehearsed := w.Run(wire.NewRun{Purpose: purpose.Rehearsal})
	assert.Equal(t, 32, rehearsed.Counts.Held, "%+v", rehearsed.Counts)
	for _, why := range []purpose.Purpose{purpose.Sync, purpose.Sync, purpose.Full} {
		run := w.Run(wire.NewRun{Purpose: why})
		assert.Equal(t, progress.Problems, run.State)
		require.Equal(t, 32, run.Counts.Held, "%+v", run.Counts)
		assert.Equal(t, "empty title of 32 people", run.Counts.HeldText())
		assert.Equal(t, "Hand", title(0))
		assert.Equal(t, "Hand", title(31))
	}
	assert.Equal(t, "Mate", title(40))
	assert.NotEmpty(t, w.User("crew00003@brisling.example")["phoneNumbers"], "the rest of the same change went on")
	out, _, status := w.Kambrel("health")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "would empty title of 32 people")

	// Who has it again falls out; below the limit the others go.
	w.Set(dn(0), "title", "Hand")
	run := w.Run(wire.NewRun{})
	require.Equal(t, 31, run.Counts.Held, "%+v", run.Counts)
	released, err := w.Client.Release(t.Context(), run.ID)
	require.NoError(t, err)
	require.Equal(t, progress.InStep, w.Wait(released.ID).State)
	assert.Equal(t, "Hand", title(0))
	assert.Nil(t, title(1))
	w.InStep(0)
}

// TestMembersThatAGroupWouldLoseAreHeld takes most of a group's members out of it,
// while one comes; and then one who leaves the company, which nobody holds.
func TestMembersThatAGroupWouldLoseAreHeld(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(30)+worldtest.TeamsLDIF)
	dn := worldtest.Crew
	var all []string
	for i := range 29 {
		all = append(all, dn(i))
	}
	group := w.Group("Deck", all...)
	w.Activate(worldtest.WithGroups())
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	require.Len(t, worldtest.Members(t, w.Address(), "Deck"), 29)
	request := ldap.NewModifyRequest(group, nil)
	request.Delete("member", all[:20])
	request.Add("member", []string{dn(29)})
	require.NoError(t, w.LDAP.Modify(request))
	rehearsed := w.Run(wire.NewRun{Purpose: purpose.Rehearsal})
	assert.Equal(t, 1, rehearsed.Counts.Held, "%+v", rehearsed.Counts)
	for range 2 {
		run := w.Run(wire.NewRun{})
		require.Equal(t, 1, run.Counts.Held, "%+v", run.Counts)
		assert.Equal(t, "take 20 members out of 1 groups", run.Counts.HeldText())
		assert.Zero(t, run.Counts.Hanging)
		assert.Len(t, worldtest.Members(t, w.Address(), "Deck"), 30, "nobody went, and one came")
	}
	// Who leaves the cloud leaves the group, whatever is held of it.
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(dn(28), nil)))
	run := w.Run(wire.NewRun{})
	assert.Equal(t, 1, run.Counts.Suspend)
	require.Equal(t, 1, run.Counts.Held, "%+v", run.Counts)
	assert.Len(t, worldtest.Members(t, w.Address(), "Deck"), 29)
	released, err := w.Client.Release(t.Context(), run.ID)
	require.NoError(t, err)
	require.Equal(t, progress.InStep, w.Wait(released.ID).State)
	assert.Len(t, worldtest.Members(t, w.Address(), "Deck"), 9)
	w.InStep(0)
}

// TestLoginsThatWouldChangeAreHeld gives many another address; a limit of zero holds
// a single one.
func TestLoginsThatWouldChangeAreHeld(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(30))
	d := worldtest.Document()
	w.Activate(d)
	w.InStep(30)
	for i := range 25 {
		w.Set(worldtest.Crew(i), "mail", fmt.Sprintf("hand%05d@brisling.example", i))
	}
	run := w.Run(wire.NewRun{})
	require.Equal(t, 25, run.Counts.Held, "%+v", run.Counts)
	assert.Equal(t, "change the login of 25 people", run.Counts.HeldText())
	held := w.User("crew00000@brisling.example")
	require.NotNil(t, held, "the login stays")
	assert.Contains(t, fmt.Sprint(held["emails"]), "hand00000@brisling.example", "the address does not wait")
	d.Guard.Logins = &settings.Limit{Number: 25, Share: 5}
	w.Activate(d)
	w.InStep(25)
	d.Guard.Logins = &settings.Limit{}
	w.Activate(d)
	w.Set(worldtest.Crew(0), "mail", "mate@brisling.example")
	require.Equal(t, 1, w.Run(wire.NewRun{}).Counts.Held)
	assert.Nil(t, w.User("mate@brisling.example"))
}
