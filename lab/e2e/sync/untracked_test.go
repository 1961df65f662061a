package sync_test

import (
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestADirectoryThatDoesNotTellWhatChangedIsKeptInStep makes every kind of change in a
// directory without content synchronization: each arrives with the next run, and the
// cloud ends as the directory is.
func TestADirectoryThatDoesNotTellWhatChangedIsKeptInStep(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, habitLDIF(), worldtest.Options{NoSync: true})
	w.Activate(worldtest.WithGroups())
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	exact(w, "the first run")
	crew := func(name string) string { return "cn=Crew " + name + "," + worldtest.People }
	step := func(what string, change func()) {
		t.Helper()
		change()
		run := w.Run(wire.NewRun{})
		require.Equal(t, progress.InStep, run.State, "%s: %+v", what, run)
		require.NotZero(t, run.Counts.Changes, what)
		exact(w, what)
	}
	step("a value", func() { w.Set(crew("03"), "title", "Master") })
	step("somebody new", func() { w.Person("Crew 90", map[string]string{"mail": "crew90@brisling.example", "title": "Hand"}) })
	step("a member more", func() { w.Member("cn=Team 0,"+worldtest.Teams, true, crew("90")) })
	step("a member less", func() { w.Member("cn=Team 0,"+worldtest.Teams, false, crew("90")) })
	step("a manager", func() { w.Set(crew("90"), "manager", crew("03")) })
	// A rename keeps the account; the name of who is renamed is not the login here.
	before := w.User("crew05@brisling.example")
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest(crew("05"), "cn=Crew Five", true, "")))
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run)
	assert.Zero(t, run.Counts.Create+run.Counts.Suspend)
	assert.Equal(t, before["id"], w.User("crew05@brisling.example")["id"])
	// Out of scope, and back; and away for good.
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest("cn=Crew Five,"+worldtest.People, "cn=Crew Five", true, worldtest.Leavers)))
	require.Equal(t, 1, w.Run(wire.NewRun{}).Counts.Suspend)
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest("cn=Crew Five,"+worldtest.Leavers, "cn=Crew 05", true, worldtest.People)))
	run = w.Run(wire.NewRun{})
	assert.Equal(t, 1, run.Counts.Restore, "%+v", run.Counts)
	exact(w, "out and back")
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(crew("90"), nil)))
	assert.Equal(t, 1, w.Run(wire.NewRun{}).Counts.Suspend)
	assert.Equal(t, false, w.User("crew90@brisling.example")["active"])
	full := w.Run(wire.NewRun{Purpose: purpose.Full})
	assert.Equal(t, progress.InStep, full.State)
	assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
}
