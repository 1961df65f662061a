package sync_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestOneRefusedValueKeepsNoOtherAway lets the cloud refuse titles, and groups that are
// members of themselves: people are made and changed without the one, groups get their
// other members, what was refused is told once for all, and the rest is in step.
func TestOneRefusedValueKeepsNoOtherAway(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.TeamsLDIF, worldtest.Options{Cloud: []string{"--habits", "no-titles,no-self"}})
	people := make([]string, 8)
	for i := range people {
		people[i] = w.Person(fmt.Sprintf("Crew %02d", i), map[string]string{"title": fmt.Sprintf("Hand %d", i)})
	}
	plain := w.Person("Bo", nil)
	crew := w.Group("Crew", append(people[:5:5], plain, "cn=Crew,"+worldtest.Teams)...)
	w.Activate(worldtest.WithGroups())
	run := w.Run(wire.NewRun{})
	require.Nil(t, run.Failure)
	assert.Equal(t, 10, run.Counts.Create, "%+v", run.Counts)
	require.Len(t, worldtest.Users(t, w.Address(), ""), 9)
	assert.Len(t, worldtest.Members(t, w.Address(), "Crew"), 6, "the others")
	assert.Equal(t, 9, run.Counts.Problems, "%+v", run.Counts)
	problems := w.Problems()
	assert.Len(t, problems, 9, "%+v", problems)

	out, _, _ := w.Kambrel("problems", "list")
	assert.Contains(t, out, "8 times: title: the cloud answers 400 invalidValue: title: this service takes no titles")
	assert.Equal(t, 1, strings.Count(out, "takes no titles"), out)
	assert.Contains(t, out, "members = +Crew: the cloud answers 400: a group cannot be a member of itself")
	object := w.Why("crew.03@brisling.example")
	require.NotNil(t, object.Problem)
	assert.Contains(t, object.Problem.Detail, "title = Hand 3: ")
	assert.Equal(t, "crew.03@brisling.example", object.Resource["userName"])

	// What changes beside it arrives, and what is refused is asked once in a run.
	w.Set(people[3], "telephoneNumber", "+47 3")
	w.Member(crew, false, people[0])
	w.Member(crew, true, people[6])
	for _, why := range []purpose.Purpose{purpose.Sync, purpose.Full, purpose.Sync} {
		run = w.Run(wire.NewRun{Purpose: why})
		assert.Equal(t, 9, run.Counts.Problems, "%s: %+v", why, run.Counts)
	}
	assert.Contains(t, fmt.Sprint(w.User("crew.03@brisling.example")["phoneNumbers"]), "+47 3")
	members := worldtest.Members(t, w.Address(), "Crew")
	assert.Len(t, members, 6)
	assert.Contains(t, members, "crew.06")
	assert.NotContains(t, members, "crew.00")

	// Without the values people are in step.
	for _, dn := range people[1:] {
		request := ldap.NewModifyRequest(dn, nil)
		request.Delete("title", nil)
		require.NoError(t, w.LDAP.Modify(request))
	}
	w.Member(crew, false, "cn=Crew,"+worldtest.Teams)
	w.Run(wire.NewRun{})
	assert.Len(t, w.Problems(), 1)
}
