package desk_test

import (
	"encoding/json"
	"fmt"
	"strconv"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// dump is all that the cloud has, but for when and in which version.
func dump(w *worldtest.World) map[string]any {
	w.T.Helper()
	all := map[string]any{}
	for _, endpoint := range []string{"Users", "Groups"} {
		status, page := worldtest.SCIM(w.T, w.Address(), "GET", w.Cloud.URL+"/"+endpoint+"?count=1000", nil)
		require.Equal(w.T, 200, status)
		list, _ := page["Resources"].([]any)
		for _, item := range list {
			resource := item.(map[string]any)
			delete(resource, "meta")
			text, err := json.Marshal(resource)
			require.NoError(w.T, err)
			all[fmt.Sprint(resource["id"])] = string(text)
		}
	}
	return all
}

// undo undoes a run, and gives the run that did it.
func undo(w *worldtest.World, run int64, more ...string) wire.Run {
	w.T.Helper()
	done := worldtest.Reads[wire.Undo](w, append([]string{"runs", "undo", strconv.FormatInt(run, 10), "--yes"}, more...)...)
	require.True(w.T, done.Done)
	return w.Wait(done.NextRun)
}

// stays holds that neither a sync, nor a look at everything, nor a rehearsal does again
// what was undone.
func stays(w *worldtest.World) {
	w.T.Helper()
	for _, why := range []purpose.Purpose{purpose.Sync, purpose.Full, purpose.Rehearsal} {
		again := w.Run(wire.NewRun{Purpose: why})
		assert.Zero(w.T, again.Counts.Changes+again.Counts.Held, "%s: %+v", why, again.Counts)
	}
}

// TestARunIsUndone puts back settings that were wrong, values, members, suspensions,
// creations and adoptions; what was changed since stays.
func TestARunIsUndone(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.TeamsLDIF+worldtest.LDIFPeople(30))
	known := w.InCloud("jon.sletta", map[string]any{"displayName": "Jon S.", "title": "Porter"})
	ada := w.Person("Ada Lind", map[string]string{"title": "Mate"})
	bo := w.Person("Bo Vik", map[string]string{"manager": ada})
	deck := w.Group("Deck", ada, bo)
	d := worldtest.WithGroups()
	d.Guard = settings.Guard{Removals: 5, Share: 10, Values: &settings.Limit{Number: 5, Share: 10}}
	w.Activate(d)
	w.InStep(35) // 32 people, the group, its members, and Bo's manager
	before := dump(w)

	// A rule empties the titles of everybody, and somebody lets it through.
	wrong := worldtest.WithGroups()
	wrong.Guard = d.Guard
	for i := range wrong.Users.Rules {
		if wrong.Users.Rules[i].Target == "title" {
			wrong.Users.Rules[i].From, wrong.Users.Rules[i].Formula = "", `""`
		}
	}
	w.Activate(wrong)
	held := w.Run(wire.NewRun{})
	require.Equal(t, 31, held.Counts.Held, "%+v", held.Counts)
	released, err := w.Client.Release(t.Context(), held.ID)
	require.NoError(t, err)
	run := w.Wait(released.ID)
	require.Equal(t, 31, run.Counts.Done, "%+v", run.Counts)
	number := strconv.FormatInt(run.ID, 10)
	w.Says([]string{"runs", "undo", number}, "31 things would go back", "title: (nothing) -> Hand", "--return-settings", "Nothing was done yet")
	assert.NotEqual(t, before, dump(w), "and so it is")
	undone := undo(w, run.ID, "--return-settings")
	assert.Equal(t, []any{purpose.Undo, run.ID, 31}, []any{undone.Purpose, undone.Undoes, undone.Counts.Done})
	assert.Equal(t, before, dump(w), "the cloud is as before")
	w.Says([]string{"pins", "list"}, "Nothing is pinned")
	w.Refuses([]string{"runs", "undo", number, "--yes"}, "31 things are as they were already")
	stays(w)

	// A value goes back and stays, until it is lifted.
	w.Set(ada, "title", "Master")
	run = w.InStep(1)
	undone = undo(w, run.ID)
	assert.Equal(t, "Mate", w.User("ada.lind@brisling.example")["title"])
	stays(w)
	w.Says([]string{"health"}, "1 thing held against rules or scope")
	w.Says([]string{"why", "ada.lind@brisling.example"}, "title stays as it was put back: Mate", "put back by administrator: undo of run "+strconv.FormatInt(run.ID, 10))
	w.Says([]string{"pins", "list"}, "title stays Mate")
	// The undo is a run, and can be undone as well; the rules agree with that.
	undo(w, undone.ID)
	assert.Equal(t, "Master", w.User("ada.lind@brisling.example")["title"])
	w.Says([]string{"pins", "list"}, "Nothing is pinned")
	// What another run has changed since stays.
	w.Set(ada, "title", "Cook")
	later := w.InStep(1)
	w.Refuses([]string{"runs", "undo", strconv.FormatInt(run.ID, 10), "--yes"}, "nothing of run", "0 things are as they were already, 1 cannot go back")
	w.Says([]string{"runs", "undo", strconv.FormatInt(run.ID, 10)}, fmt.Sprintf("run %d has changed it since: it is Cook now", later.ID))

	// Members and managers.
	w.Member(deck, false, "cn=Bo Vik,"+worldtest.People)
	w.Set(bo, "manager", worldtest.Crew(1))
	manager := w.Manager("bo.vik")
	run = w.InStep(2)
	assert.Equal(t, []string{"ada.lind"}, worldtest.Members(t, w.Address(), "Deck"))
	undo(w, run.ID)
	assert.Equal(t, []string{"ada.lind", "bo.vik"}, worldtest.Members(t, w.Address(), "Deck"))
	assert.Equal(t, manager, w.Manager("bo.vik"))
	stays(w)
	w.Says([]string{"pins", "lift", "Deck", "--yes"}, "-Bo Vik")
	assert.Equal(t, []string{"ada.lind"}, worldtest.Members(t, w.Address(), "Deck"))
	w.Set(bo, "manager", ada)
	w.InStep(0)
	w.Says([]string{"pins", "list"}, "Nothing is pinned")

	// Who was suspended comes back, and who was created goes as a leaver does.
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(worldtest.Crew(7), nil)))
	w.Person("Eli Sund", nil)
	run = w.InStep(2)
	undo(w, run.ID)
	assert.Equal(t, true, w.User("crew00007@brisling.example")["active"])
	assert.Equal(t, false, w.User("eli.sund@brisling.example")["active"])
	stays(w)
	w.Says([]string{"why", "crew00007@brisling.example"}, "an operator has decided so, whatever the scope says")
	w.Says([]string{"pins", "lift", "--run", strconv.FormatInt(run.ID, 10)}, "2 pins would be lifted")
	w.Says([]string{"pins", "lift", "--run", strconv.FormatInt(run.ID, 10), "--yes"}, "suspend 1", "restore 1")
	assert.Equal(t, false, w.User("crew00007@brisling.example")["active"])
	assert.Equal(t, true, w.User("eli.sund@brisling.example")["active"])

	// An adoption is untied, and the resource has what it had.
	was := w.User("jon.sletta@brisling.example")
	w.Person("Jon Sletta", map[string]string{"title": "Ramp Officer"})
	run = w.InStep(1)
	assert.Equal(t, known, w.User("jon.sletta@brisling.example")["id"])
	assert.Equal(t, "Ramp Officer", w.User("jon.sletta@brisling.example")["title"])
	undone = undo(w, run.ID)
	now := w.User("jon.sletta@brisling.example")
	delete(was, "meta")
	delete(now, "meta")
	assert.Equal(t, was, now)
	assert.Equal(t, map[string]string{"cn=Jon Sletta," + worldtest.People: "held-by-hand"}, w.Problems())
	undo(w, undone.ID)
	assert.Equal(t, "Ramp Officer", w.User("jon.sletta@brisling.example")["title"], "and is adopted again")
	assert.Empty(t, w.Problems())
	w.InStep(0)

	acts, err := w.Client.Acts(t.Context(), map[string][]string{"kind": {string(act.UndoRun)}})
	require.NoError(t, err)
	assert.Equal(t, 7, acts.Total)
	rehearsal := w.Run(wire.NewRun{Purpose: purpose.Rehearsal})
	w.Refuses([]string{"runs", "undo", strconv.FormatInt(rehearsal.ID, 10)}, "is a rehearsal and has written nothing")
	w.Refuses([]string{"runs", "undo", "4711"}, "there is no run 4711")
	w.Refuses([]string{"pins", "lift", "ada.lind@brisling.example", "--yes"}, "nothing like that is held any more")
}
