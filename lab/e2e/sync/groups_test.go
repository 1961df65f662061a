package sync_test

import (
	"fmt"
	"slices"
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

func TestGroupsAndReferencesFollowTheDirectory(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.TeamsLDIF)
	ada, bo, eli := w.Person("Ada Brekke", nil), w.Person("Bo Ravn", nil), w.Person("Eli Aas", nil)
	outside := "cn=Gone Long," + worldtest.Leavers
	crew := w.Group("Crew", ada, bo, outside)
	w.Set(bo, "manager", ada)
	w.Activate(worldtest.WithGroups())

	run := w.Run(wire.NewRun{Purpose: purpose.Forecast})
	assert.Equal(t, 4, run.Counts.Create)
	changes, err := w.Client.Changes(t.Context(), run.ID, map[string][]string{"kind": {"group"}})
	require.NoError(t, err)
	require.Len(t, changes.Items, 2, "a rehearsal tells the members of groups that are still to be made")
	assert.Len(t, changes.Items[1].Diffs[0].Added, 2)
	assert.Empty(t, worldtest.Users(t, w.Address(), ""))

	w.InStep(6) // three people, a group, its members, a manager
	assert.Equal(t, []string{"ada.brekke", "bo.ravn"}, worldtest.Members(t, w.Address(), "Crew"), "who is not in scope is left out")
	assert.Equal(t, w.User("ada.brekke@brisling.example")["id"], w.Manager("bo.ravn"))
	w.InStep(0)

	w.Member(crew, true, eli)
	w.InStep(1)
	assert.Equal(t, []string{"ada.brekke", "bo.ravn", "eli.aas"}, worldtest.Members(t, w.Address(), "Crew"))
	watch := w.Group("Watch", crew)
	w.InStep(2)
	assert.Equal(t, []string{"Crew"}, worldtest.Members(t, w.Address(), "Watch"))
	w.Member(crew, true, watch) // a cycle
	w.InStep(1)
	assert.Equal(t, []string{"Watch", "ada.brekke", "bo.ravn", "eli.aas"}, worldtest.Members(t, w.Address(), "Crew"))
	w.Set(bo, "manager", eli)
	w.InStep(1)
	assert.Equal(t, w.User("eli.aas@brisling.example")["id"], w.Manager("bo.ravn"))
	id := worldtest.Resources(t, w.Address(), "Groups")["Crew"]["id"]
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest(crew, "cn=Deck crew", true, "")))
	w.Member(watch, true, "cn=Deck crew,"+worldtest.Teams)
	w.Member(watch, false, crew)
	w.InStep(1)
	assert.Equal(t, id, worldtest.Resources(t, w.Address(), "Groups")["Deck crew"]["id"], "a renamed group keeps its resource and its members")
	assert.Equal(t, []string{"Deck crew"}, worldtest.Members(t, w.Address(), "Watch"))
	crew = "cn=Deck crew," + worldtest.Teams

	// What is done to the group in the cloud is put right.
	address := w.Address()
	worldtest.Patch(t, address, fmt.Sprint("Groups/", id), worldtest.Operation("remove", "members", nil))
	w.InStep(1)
	assert.Equal(t, []string{"Watch", "ada.brekke", "bo.ravn", "eli.aas"}, worldtest.Members(t, address, "Deck crew"))

	// A member that the cloud has lost is made again and is a member again.
	status, _ := worldtest.SCIM(t, address, "DELETE", fmt.Sprint(address.URL, "/Users/", w.User("eli.aas@brisling.example")["id"]), nil)
	require.Equal(t, 204, status)
	w.Run(wire.NewRun{Purpose: purpose.Full})
	w.InStep(0)
	assert.Equal(t, []string{"Watch", "ada.brekke", "bo.ravn", "eli.aas"}, worldtest.Members(t, address, "Deck crew"))
	assert.Equal(t, w.User("eli.aas@brisling.example")["id"], w.Manager("bo.ravn"))

	// A person who leaves leaves the groups, and comes back into them.
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest(ada, "cn=Ada Brekke", true, worldtest.Leavers)))
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	assert.Equal(t, []string{"Watch", "bo.ravn", "eli.aas"}, worldtest.Members(t, address, "Deck crew"))
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest("cn=Ada Brekke,"+worldtest.Leavers, "cn=Ada Brekke", true, worldtest.People)))
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	assert.Equal(t, []string{"Watch", "ada.brekke", "bo.ravn", "eli.aas"}, worldtest.Members(t, address, "Deck crew"))

	// A group that goes stays for its grace time, and comes back as it was.
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(watch, nil)))
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	assert.Contains(t, worldtest.Resources(t, address, "Groups"), "Watch")
	d := worldtest.WithGroups()
	d.Groups.Grace = "0s"
	w.Activate(d)
	run = w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State)
	assert.Equal(t, 1, run.Counts.Delete)
	assert.NotContains(t, worldtest.Resources(t, address, "Groups"), "Watch")
	w.InStep(0)
	full := w.Run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
}

func TestAnExistingGroupIsAdoptedAndRolesFollowMembership(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.TeamsLDIF)
	address := w.Address()
	status, made := worldtest.SCIM(t, address, "POST", address.URL+"/Groups", map[string]any{"displayName": "Crew"})
	require.Equal(t, 201, status)
	ada, bo := w.Person("Ada Brekke", nil), w.Person("Bo Ravn", nil)
	crew := w.Group("Crew", ada)
	watch := w.Group("Watch", crew)
	d := worldtest.WithGroups()
	d.Users.Rules = append(d.Users.Rules, settings.Rule{Target: "entitlements", Granted: []settings.Grant{{Group: watch, Value: "bridge-app"}, {Group: crew, Value: "crew-app"}}, Fallback: `"guest-app"`})
	w.Activate(d)
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	assert.Equal(t, made["id"], worldtest.Resources(t, address, "Groups")["Crew"]["id"], "the group that was there is adopted")
	entitlements := func(login string) []string {
		var values []string
		list, _ := w.User(login + "@brisling.example")["entitlements"].([]any)
		for _, item := range list {
			values = append(values, fmt.Sprint(item.(map[string]any)["value"]))
		}
		slices.Sort(values)
		return values
	}
	assert.Equal(t, []string{"bridge-app", "crew-app"}, entitlements("ada.brekke"), "also through a group within the group")
	assert.Equal(t, []string{"guest-app"}, entitlements("bo.ravn"))

	// Somebody gives her one by hand: it stays when the membership ends.
	worldtest.Patch(t, address, fmt.Sprint("Users/", w.User("ada.brekke@brisling.example")["id"]), worldtest.Operation("add", "entitlements", []any{map[string]any{"value": "by-hand"}}))
	w.Member(crew, true, bo)
	w.Member(crew, false, ada)
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	assert.Equal(t, []string{"by-hand", "guest-app"}, entitlements("ada.brekke"))
	assert.Contains(t, entitlements("bo.ravn"), "bridge-app")
	w.InStep(0)
}

// TestWhomNobodyNamesAnyMore: the account of somebody whose entry names no manager has none
// either, although nothing of the entry leads to comparing that.
func TestWhomNobodyNamesAnyMore(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.TeamsLDIF)
	boss := w.InCloud("bo.ravn", nil)
	manager := map[string]any{"value": boss}
	w.InCloud("ada.brekke", map[string]any{worldtest.ManagerTarget: map[string]any{"manager": manager}})
	w.Person("Ada Brekke", nil)
	bo, eli := w.Person("Bo Ravn", nil), w.Person("Eli Aas", nil)
	w.Set(eli, "manager", bo)
	w.Activate(worldtest.WithGroups())
	steps := func(what string, rehearsed, changes int) {
		t.Helper()
		forecast := w.Run(wire.NewRun{Purpose: purpose.Forecast})
		assert.Equal(t, rehearsed, forecast.Counts.Changes, "%s, rehearsed: %+v", what, forecast.Counts)
		w.InStep(changes)
		assert.Zero(t, w.Run(wire.NewRun{Purpose: purpose.Full}).Counts.Changes, what)
	}
	steps("somebody had an account with a manager", 4, 5) // a rehearsal shows the manager of whom it makes with the creation
	assert.Nil(t, w.Manager("ada.brekke"))
	assert.Equal(t, boss, w.Manager("eli.aas"))

	account := w.User("eli.aas@brisling.example")["id"]
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(eli, nil)))
	w.Person("Eli Aas", nil)
	steps("deleted, and made again without a manager", 1, 1)
	assert.Equal(t, account, w.User("eli.aas@brisling.example")["id"])
	assert.Nil(t, w.Manager("eli.aas"))

	w.ByHand("ada.brekke@brisling.example", worldtest.ManagerTarget+":manager", manager)
	steps("somebody gave her one in the cloud", 1, 1)
	assert.Nil(t, w.Manager("ada.brekke"))
}
