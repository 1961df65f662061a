package sync_test

import (
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestWhatHappensInTheCloudMeanwhileIsMet changes the cloud between plan and
// write: each run ends in step, with nobody lost and nobody twice.
func TestWhatHappensInTheCloudMeanwhileIsMet(t *testing.T) {
	t.Parallel()
	b := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.TeamsLDIF, worldtest.Options{Between: b})
	w.Activate(worldtest.WithGroups())
	ada, bo := w.Person("Ada Brekke", map[string]string{"title": "Mate"}), w.Person("Bo Ravn", nil)
	watch := w.Group("Watch", ada, bo)
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	id := func(login string) string {
		found := worldtest.Users(t, w.Address(), `userName eq "`+login+`@brisling.example"`)
		require.Len(t, found, 1, "%s is there, and once", login)
		return found[0]["id"].(string)
	}
	remove := func(login string) func() {
		gone := id(login)
		return func() {
			status, _ := worldtest.SCIM(t, w.Address(), "DELETE", w.Cloud.URL+"/Users/"+gone, nil)
			assert.Equal(t, 204, status)
		}
	}
	ends := func(act func()) wire.Run {
		t.Helper()
		b.Happens(act)
		run := w.Run(wire.NewRun{})
		assert.Equal(t, progress.InStep, run.State, "%+v", run)
		b.Mu.Lock()
		assert.Nil(t, b.Act, "it happened")
		b.Mu.Unlock()
		return run
	}

	// Whom the run was about to change is deleted: made again, with the
	// membership.
	w.Set(ada, "title", "Master")
	before := id("ada.brekke")
	ends(remove("ada.brekke"))
	assert.NotEqual(t, before, id("ada.brekke"))
	assert.Equal(t, "Master", w.User("ada.brekke@brisling.example")["title"])
	assert.Equal(t, []string{"ada.brekke", "bo.ravn"}, worldtest.Members(t, w.Address(), "Watch"))
	w.InStep(0)

	// Somebody else edits the same person: the rules' values win, what has no
	// rule stays.
	w.Set(ada, "title", "Pilot")
	ends(func() {
		worldtest.Patch(t, w.Address(), "Users/"+id("ada.brekke"), worldtest.Operation("replace", "title", "Purser"), worldtest.Operation("add", "nickName", "A"))
	})
	assert.Equal(t, "Pilot", w.User("ada.brekke@brisling.example")["title"])
	assert.Equal(t, "A", w.User("ada.brekke@brisling.example")["nickName"])
	w.InStep(0)

	// Somebody makes the account by hand while the run is about to: it is adopted.
	w.Person("Cai Dahl", map[string]string{"title": "Cook"})
	var byHand string
	ends(func() { byHand = w.InCloud("cai.dahl", nil) })
	assert.Equal(t, byHand, id("cai.dahl"))
	assert.Equal(t, "Cook", w.User("cai.dahl@brisling.example")["title"])
	w.InStep(0)

	// Who was about to become a member is deleted: made again, and a member.
	w.Member(watch, true, "cn=Cai Dahl,"+worldtest.People)
	ends(remove("cai.dahl"))
	assert.NotEqual(t, byHand, id("cai.dahl"))
	assert.Equal(t, []string{"ada.brekke", "bo.ravn", "cai.dahl"}, worldtest.Members(t, w.Address(), "Watch"))
	w.InStep(0)

	// Who was about to be suspended is deleted: nothing is left to do.
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(bo, nil)))
	ends(remove("bo.ravn"))
	assert.Empty(t, worldtest.Users(t, w.Address(), `userName eq "bo.ravn@brisling.example"`))
	w.InStep(0)
}

// TestWhatTheCloudRefusesIsNamedAndHoldsNobodyElse has a person whom the cloud
// refuses, a group that holds the person, and somebody who refers to the person.
func TestWhatTheCloudRefusesIsNamedAndHoldsNobodyElse(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.TeamsLDIF)
	w.Activate(worldtest.WithGroups())
	long := make([]byte, 2000)
	for i := range long {
		long[i] = 'x'
	}
	ada, bo := w.Person("Ada Brekke", nil), w.Person("Bo Ravn", map[string]string{"mail": string(long) + "@brisling.example"})
	w.Set(ada, "manager", bo)
	w.Group("Watch", ada, bo)
	run := w.Run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State, "%+v", run)
	assert.Equal(t, map[string]string{bo: string(problem.ValueRefused)}, w.Problems())
	out, _, _ := w.Kambrel("why", bo)
	assert.Contains(t, out, "userName is longer than", "the cloud's own words")
	assert.Equal(t, []string{"ada.brekke"}, worldtest.Members(t, w.Address(), "Watch"), "the member is left out, the others arrive")
	assert.Nil(t, w.Manager("ada.brekke"))
	out, _, _ = w.Kambrel("show", "Watch")
	assert.Contains(t, out, "Bo Ravn")
	assert.Contains(t, out, "it has no resource in the cloud", "who is left out is named")

	// It is tried again with each run, is counted once, and ends with its cause.
	again := w.Run(wire.NewRun{})
	assert.Equal(t, 1, again.Counts.Problems)
	w.Set(bo, "mail", "bo.ravn@brisling.example")
	run = w.Run(wire.NewRun{})
	assert.Equal(t, progress.InStep, run.State, "%+v", run)
	assert.Empty(t, w.Problems())
	assert.Equal(t, []string{"ada.brekke", "bo.ravn"}, worldtest.Members(t, w.Address(), "Watch"))
	assert.Equal(t, w.User("bo.ravn@brisling.example")["id"], w.Manager("ada.brekke"))
	w.InStep(0)
}
