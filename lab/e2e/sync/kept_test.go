package sync_test

import (
	"fmt"
	"strconv"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestWhatIsDiscardedStaysUntilItsCauseChanges discards held removals with what hangs on
// them, lets a single one through, and lets somebody whom it concerned come and go again.
func TestWhatIsDiscardedStaysUntilItsCauseChanges(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, habitLDIF())
	d := worldtest.WithGroups()
	d.Guard = settings.Guard{Removals: 3, Share: 10}
	w.Activate(d)
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	before := look(w)
	for i := range 8 { // two managers among them
		require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(fmt.Sprintf("cn=Crew %02d,%s", i, worldtest.People), nil)))
	}
	run := w.Run(wire.NewRun{})
	require.Equal(t, 8, run.Counts.Held, "%+v", run.Counts)
	number := strconv.FormatInt(run.ID, 10)
	_, stderr, status := w.Kambrel("runs", "discard", number, "--yes")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "--reason")
	out, _, status := w.Kambrel("runs", "discard", number, "--reason", "a mistake")
	assert.Zero(t, status)
	assert.Contains(t, out, "suspend or delete 8 people would be discarded")
	require.Equal(t, 8, w.Run(wire.NewRun{}).Counts.Held, "nothing was done yet")

	// One goes, the others stay.
	held, err := w.Client.Changes(t.Context(), run.ID, map[string][]string{"state": {"held"}, "kind": {"user"}, "operation": {"suspend"}})
	require.NoError(t, err)
	one := held.Items[7] // no manager
	_, stderr, status = w.Kambrel("runs", "release", number, "--change", "1", "--yes")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "holds no change 1")
	released, err := w.Client.Release(t.Context(), run.ID, one.ID)
	require.NoError(t, err)
	run = w.Wait(released.ID)
	assert.Equal(t, 1, run.Counts.Suspend, "%+v", run.Counts)
	require.Equal(t, 7, run.Counts.Held, "%+v", run.Counts)
	assert.Equal(t, false, w.User(one.Name)["active"])
	out, stderr, status = w.Kambrel("runs", "discard", strconv.FormatInt(run.ID, 10), "--reason", "they are on leave", "--yes")
	assert.Zero(t, status, out+stderr)
	for _, why := range []purpose.Purpose{purpose.Sync, purpose.Full, purpose.Rehearsal} {
		again := w.Run(wire.NewRun{Purpose: why})
		assert.Equal(t, progress.InStep, again.State, "%s: %+v", why, again)
		assert.Zero(t, again.Counts.Changes+again.Counts.Held+again.Counts.Hanging, "%s: %+v", why, again.Counts)
	}
	after := look(w)
	assert.Equal(t, before.Managers["crew08"], after.Managers["crew08"], "somebody's manager as before")
	for team, members := range before.Members {
		for _, member := range members {
			if member+"@brisling.example" != one.Name {
				assert.Contains(t, after.Members[team], member, team)
			}
		}
	}
	out, _, _ = w.Kambrel("kept", "list")
	assert.Contains(t, out, "they are on leave")
	out, _, _ = w.Kambrel("health")
	assert.NotContains(t, out, "held")
	out, _, _ = w.Kambrel("why", "crew00@brisling.example")
	assert.Contains(t, out, "discarded by administrator: they are on leave")
	acts, err := w.Client.Acts(t.Context(), map[string][]string{"kind": {string(act.Discard)}})
	require.NoError(t, err)
	require.Len(t, acts.Items, 1)
	assert.Equal(t, "they are on leave", acts.Items[0].Note)

	// Somebody who comes back and goes again is asked about anew, and below the limit goes.
	request := ldap.NewAddRequest("cn=Crew 00,"+worldtest.People, nil)
	for name, value := range map[string]string{"objectClass": "inetOrgPerson", "uid": "crew00", "sn": "Crew", "givenName": "N00", "mail": "crew00@brisling.example", "title": "Hand"} {
		request.Attribute(name, []string{value})
	}
	require.NoError(t, w.LDAP.Add(request))
	require.NotEqual(t, progress.Failed, w.Run(wire.NewRun{}).State)
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(request.DN, nil)))
	run = w.Run(wire.NewRun{})
	assert.Equal(t, 1, run.Counts.Suspend, "%+v", run.Counts)
	assert.Equal(t, false, w.User("crew00@brisling.example")["active"])

	// What is kept of somebody can be ended; the guard asks as for anybody.
	_, stderr, status = w.Kambrel("kept", "end", "crew01@brisling.example", "--yes")
	assert.Zero(t, status, stderr)
	assert.Equal(t, false, w.User("crew01@brisling.example")["active"])
	assert.Equal(t, true, w.User("crew02@brisling.example")["active"])
}

// TestValuesAndMembersThatAreDiscardedStay discards the loss of values and of members;
// who gets the value again and loses it, or comes back and goes, is asked about anew.
func TestValuesAndMembersThatAreDiscardedStay(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(12)+worldtest.TeamsLDIF)
	dn := worldtest.Crew
	var all []string
	for i := range 12 {
		all = append(all, dn(i))
	}
	group := w.Group("Deck", all...)
	d := worldtest.WithGroups()
	d.Guard = settings.Guard{Removals: 3, Share: 10, Values: &settings.Limit{Number: 2}, Group: &settings.Limit{Number: 2}}
	w.Activate(d)
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	member := func(add bool, names ...string) {
		request := ldap.NewModifyRequest(group, nil)
		if add {
			request.Add("member", names)
		} else {
			request.Delete("member", names)
		}
		require.NoError(t, w.LDAP.Modify(request))
	}
	empty := func(i int) {
		request := ldap.NewModifyRequest(dn(i), nil)
		request.Delete("title", nil)
		require.NoError(t, w.LDAP.Modify(request))
	}
	for i := range 4 {
		empty(i)
	}
	member(false, all[:4]...)
	run := w.Run(wire.NewRun{})
	require.Equal(t, "empty title of 4 people, take 4 members out of 1 groups", run.Counts.HeldText(), "%+v", run.Counts)
	next, err := w.Client.Discard(t.Context(), run.ID, wire.DiscardHeld{Reason: "a right was lost"})
	require.NoError(t, err)
	require.Equal(t, progress.InStep, w.Wait(next.ID).State)
	w.Set(dn(0), "telephoneNumber", "+47 1")
	w.InStep(1)
	full := w.Run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, full.Counts.Changes+full.Counts.Held, "%+v", full.Counts)
	assert.Len(t, worldtest.Members(t, w.Address(), "Deck"), 12)
	assert.Equal(t, "Hand", w.User("crew00000@brisling.example")["title"])
	kept, err := w.Client.Kept(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, 8, kept.Total)

	w.Set(dn(0), "title", "Mate")
	member(true, all[1])
	w.InStep(1)
	empty(0)
	member(false, all[1])
	w.InStep(2)
	assert.Nil(t, w.User("crew00000@brisling.example")["title"])
	assert.Equal(t, "Hand", w.User("crew00001@brisling.example")["title"])
	assert.Len(t, worldtest.Members(t, w.Address(), "Deck"), 11)
	kept, err = w.Client.Kept(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, 6, kept.Total)
}
