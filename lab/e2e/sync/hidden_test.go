package sync_test

import (
	"fmt"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestARightThatIsLostTakesNothingAway hides an attribute and the members of groups from
// the agent: nothing follows from their absence, all else goes on, and when the right is
// back everything is in step by itself.
func TestARightThatIsLostTakesNothingAway(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(12)+worldtest.TeamsLDIF)
	dn := worldtest.Crew
	for i := range 6 {
		w.Group(fmt.Sprint("Deck ", i), dn(0), dn(i+1))
	}
	d := worldtest.WithGroups()
	d.Users.Filter = "(&(objectClass=inetOrgPerson)(title=*))" // a filter needs it too
	w.Activate(d)
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	title := func(i int) any { return w.User(fmt.Sprintf("crew%05d@brisling.example", i))["title"] }
	standing := func() []wire.Problem {
		page, err := w.Client.Problems(t.Context(), map[string][]string{"code": {string(problem.AttributeHidden)}})
		require.NoError(t, err)
		return page.Items
	}

	w.Hide("title", "member")
	w.Set(dn(1), "telephoneNumber", "+47 1")
	w.Set(dn(2), "title", "Mate") // which nobody can see
	for _, why := range []purpose.Purpose{purpose.Rehearsal, purpose.Sync, purpose.Full, purpose.Sync} {
		run := w.Run(wire.NewRun{Purpose: why})
		assert.Equal(t, progress.Problems, run.State, "%s: %+v", why, run)
		require.NotEmpty(t, run.LeftOut, "%s", why)
		assert.Contains(t, run.LeftOut[0].Attributes, "title")
		assert.Zero(t, run.Counts.Suspend+run.Counts.Held+run.Counts.Problems, "%s: %+v", why, run.Counts)
		for i := range 12 {
			assert.Equal(t, "Hand", title(i))
		}
		for i := range 6 {
			assert.Len(t, worldtest.Members(t, w.Address(), fmt.Sprint("Deck ", i)), 2)
		}
	}
	assert.NotEmpty(t, w.User("crew00001@brisling.example")["phoneNumbers"], "what can be seen goes on")
	require.Len(t, standing(), 1, "one problem, met by several runs")
	assert.Equal(t, []string{"member", "title"}, standing()[0].Facts.Names)
	out, _, status := w.Kambrel("health")
	assert.Equal(t, 2, status)
	assert.Contains(t, out, "entries of brisling had member, title")
	out, _, status = w.Kambrel("directory", "probe", "brisling")
	assert.Equal(t, 2, status, out)
	assert.Contains(t, out, "entries had title, and nobody has it")
	out, _, _ = w.Kambrel("sync")
	assert.Contains(t, out, "left out member, title of brisling")

	w.Hide()
	run := w.Run(wire.NewRun{})
	assert.Equal(t, progress.InStep, run.State, "%+v", run)
	assert.Empty(t, run.LeftOut)
	assert.Equal(t, "Mate", title(2), "and what changed meanwhile is seen")
	assert.Equal(t, "Hand", title(3))
	assert.Empty(t, standing())
	w.InStep(0)
}

// TestADirectoryThatShowsNothingIsNotEmpty hides all people from the agent: nobody is
// taken for gone.
func TestADirectoryThatShowsNothingIsNotEmpty(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(8))
	d := worldtest.Document()
	d.Directories[0].Containers.Include = []string{worldtest.Base}
	d.Guard.Removals, d.Guard.Share = 100, 100
	w.Activate(d)
	w.InStep(8)
	w.HideEntries("cn=crew.*")
	for _, why := range []purpose.Purpose{purpose.Sync, purpose.Full, purpose.Full} {
		run := w.Run(wire.NewRun{Purpose: why})
		if run.Failure != nil { // changes alone may say nothing at all
			assert.Equal(t, string(problem.NothingVisible), run.Failure.Code, run.Failure.Detail)
			assert.Contains(t, run.Failure.Detail, "brisling had 8 entries, and shows none of them")
		}
		assert.NotNil(t, w.User("crew00007@brisling.example"))
		assert.Equal(t, true, w.User("crew00007@brisling.example")["active"])
	}
	out, _, status := w.Kambrel("health")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "Nothing below the base can be seen any more")
	w.Hide()
	w.InStep(0)
}

// TestWhoComesBackIntoSightComesBack hides some people from the agent and shows them again
// unchanged, which no change tells of, in a directory that is read by the times of changes.
func TestWhoComesBackIntoSightComesBack(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(8), worldtest.Options{NoSync: true})
	d := worldtest.Document()
	d.Guard.Removals, d.Guard.Share = 100, 100
	w.Activate(d)
	w.InStep(8)
	active := func() (n int) {
		for _, user := range worldtest.Users(t, w.Address(), "") {
			if user["active"] == true {
				n++
			}
		}
		return n
	}
	w.HideEntries("cn=crew 0000[012]")
	w.InStep(3)
	assert.Equal(t, 5, active())
	w.Hide()
	w.InStep(3)
	assert.Equal(t, 8, active())
	w.InStep(0)
}

// TestAnAttributeThatIsReallyGoneIsTakenWhenSomebodySaysSo empties an attribute of
// everybody, which looks the same from outside; a few who lose it are believed at once.
func TestAnAttributeThatIsReallyGoneIsTakenWhenSomebodySaysSo(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(8))
	dn := worldtest.Crew
	take := func(i int, attribute string) {
		request := ldap.NewModifyRequest(dn(i), nil)
		request.Delete(attribute, nil)
		require.NoError(t, w.LDAP.Modify(request))
	}
	for i := range 3 {
		w.Set(dn(i), "telephoneNumber", fmt.Sprint("+47 ", i))
	}
	w.Activate(worldtest.Document())
	w.InStep(8)
	for i := range 3 {
		take(i, "telephoneNumber")
	}
	w.InStep(3)
	for i := range 8 {
		take(i, "title")
	}
	run := w.Run(wire.NewRun{})
	require.Len(t, run.LeftOut, 1, "%+v", run)
	assert.Equal(t, []string{"title"}, run.LeftOut[0].Attributes)
	assert.Zero(t, run.Counts.Changes)
	problems, err := w.Client.Problems(t.Context(), map[string][]string{"code": {string(problem.AttributeHidden)}})
	require.NoError(t, err)
	require.NotEmpty(t, problems.Items[0].Remedies)
	assert.Equal(t, "kambrel directory absent brisling title", problems.Items[0].Remedies[0].Command)
	_, stderr, status := w.Kambrel("directory", "absent", "brisling", "mail", "--yes")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "nothing hides mail")
	out, stderr, status := w.Kambrel("directory", "absent", "brisling", "title", "--yes")
	require.Zero(t, status, out+stderr)
	assert.Nil(t, w.User("crew00000@brisling.example")["title"])
	w.InStep(0)
	w.Set(dn(0), "title", "Mate")
	w.InStep(1)
	assert.Equal(t, "Mate", w.User("crew00000@brisling.example")["title"])
}
