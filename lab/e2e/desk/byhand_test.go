package desk_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestLeaversAreKeptOrReturnByHand decides about people who have left: one is kept from the
// deletion, one returns who is out of scope and one who was deleted from the directory, and
// the deletion of the one that nobody keeps is certified.
func TestLeaversAreKeptOrReturnByHand(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	for _, name := range []string{"Ada", "Bo", "Cai", "Dag"} {
		w.Person(name, map[string]string{"title": "Mate"})
	}
	d := worldtest.Document()
	d.Users.Leavers, d.Users.Grace = settings.Delete, "48h"
	w.Activate(d)
	w.InStep(4)
	ids := map[string]any{}
	login := func(name string) string { return strings.ToLower(name) + "@brisling.example" }
	for _, name := range []string{"Ada", "Bo", "Cai", "Dag"} {
		ids[name] = w.User(login(name))["id"]
	}
	w.Refuses([]string{"leavers", "keep", login("Ada")}, "takes part")
	for _, name := range []string{"Ada", "Bo", "Dag"} {
		require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest("cn="+name+","+worldtest.People, "cn="+name, true, worldtest.Leavers)))
	}
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest("cn=Cai,"+worldtest.People, nil)))
	w.InStep(4)
	listed := func() (names []string) {
		for _, l := range worldtest.Reads[[]wire.Leaver](w, "leavers", "list") {
			names = append(names, l.Name)
		}
		return names
	}
	active := func(name string) bool {
		user := w.User(login(name))
		require.Equal(t, ids[name], user["id"], "the same account")
		return user["active"] == true
	}
	require.Len(t, listed(), 4)

	w.Says([]string{"leavers", "keep", login("Ada")}, "is not deleted until you lift that", "Nothing was done yet")
	require.Len(t, listed(), 4)
	w.Says([]string{"leavers", "keep", login("Ada"), "--yes"}, "stays suspended")
	w.Says([]string{"leavers", "return", login("Bo"), "--yes"}, "takes part again", "active: false -> true")
	w.Says([]string{"leavers", "return", login("Cai"), "--yes"}, "deleted from its directory, so its values stay", "active: false -> true")
	assert.Equal(t, []string{"Dag"}, listed())
	w.Says([]string{"pins", "list"}, "Decided by hand by administrator", "is not deleted when the grace time is over", "takes part, whatever the scope says")
	w.Says([]string{"why", login("Ada")}, "the resource is kept and not deleted")
	assert.Equal(t, []bool{false, true, true}, []bool{active("Ada"), active("Bo"), active("Cai")})

	// Neither a full run nor the end of the grace time changes that.
	d.Users.Grace = "1ms"
	w.Activate(d)
	run := w.Run(wire.NewRun{Purpose: purpose.Full})
	require.Equal(t, 1, run.Counts.Done, "%+v", run.Counts)
	assert.Equal(t, []bool{false, true, true}, []bool{active("Ada"), active("Bo"), active("Cai")})
	assert.Nil(t, w.User(login("Dag")))
	certificates := worldtest.Reads[[]wire.Act](w, "acts", "--kind", string(act.DeleteResource))
	require.Len(t, certificates, 1)
	var was struct{ ResourceID, Login, Left string }
	require.NoError(t, json.Unmarshal(certificates[0].Before, &was))
	assert.Equal(t, []any{ids["Dag"], login("Dag")}, []any{was.ResourceID, was.Login})
	assert.NotEmpty(t, was.Left)
	assert.Contains(t, certificates[0].Note, "the grace time is over")

	// Lifted, the rules decide again: Bo leaves anew, and of Ada it is said when she goes.
	d.Users.Grace = "48h"
	w.Activate(d)
	w.Says([]string{"pins", "lift", login("Bo"), "--yes"})
	require.Eventually(t, func() bool { return !active("Bo") }, 20*time.Second, 50*time.Millisecond)
	w.Says([]string{"pins", "lift", login("Ada"), "--yes"})
	require.Eventually(t, func() bool { return len(listed()) == 2 }, 20*time.Second, 50*time.Millisecond)

	// Whoever is in scope by themselves is no longer held.
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest("cn=Bo,"+worldtest.Leavers, "cn=Bo", true, worldtest.People)))
	w.Says([]string{"leavers", "return", login("Bo"), "--yes"})
	w.Run(wire.NewRun{})
	assert.True(t, active("Bo"))
	w.Says([]string{"pins", "list", "-o", "json"}, "scope")
	assert.NotContains(t, w.Says([]string{"pins", "list"}), "cn=Bo")
}

// TestResourcesAreExchangedAndTakenOver mends links that were made crosswise, and takes a
// resource from an entry that is not the person; nobody gets a second account.
func TestResourcesAreExchangedAndTakenOver(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	w.Person("Ada Lind", map[string]string{"title": "Mate"})
	w.Person("Bo Lind", map[string]string{"title": "Cook"})
	w.Activate(worldtest.Document())
	w.InStep(2)
	const ada, bo = "ada.lind@brisling.example", "bo.lind@brisling.example"
	first, second := w.User(ada)["id"], w.User(bo)["id"]

	w.Refuses([]string{"link", ada, bo, "--take-over"}, "Merge")
	w.Refuses([]string{"link", ada, bo}, "belongs to cn=Bo Lind", "swap")
	told := w.Says([]string{"link", ada, bo, "--swap"}, "cn=Bo Lind,"+worldtest.People+" gets "+ada, `title: "Cook" -> "Mate"`, `title: "Mate" -> "Cook"`, "Nothing was done yet")
	assert.NotContains(t, told, problem.Describe(problem.DuplicateLogin).Title)
	w.Says([]string{"link", ada, bo, "--swap", "--yes"})
	assert.Equal(t, []any{second, first}, []any{w.User(ada)["id"], w.User(bo)["id"]})
	assert.Equal(t, []any{"Mate", "Cook"}, []any{w.User(ada)["title"], w.User(bo)["title"]})
	w.InStep(0)
	w.Says([]string{"show", ada}, "swap")

	// A third entry is the person whose account Ada's has.
	twin := w.Person("Ada Vik", map[string]string{"mail": ada})
	run := w.Run(wire.NewRun{})
	require.Equal(t, 1, run.Counts.ProblemsNew)
	taken := worldtest.Reads[[]wire.Problem](w, "problems", "list")
	require.Len(t, taken, 1)
	command := ""
	for _, r := range taken[0].Remedies {
		if r.Act == act.TakeOver {
			command = r.Command
		}
	}
	require.NotEmpty(t, command, "%+v", taken[0])
	arguments := strings.Fields(command)[1:]
	w.Says(arguments, "cn=Ada Lind,"+worldtest.People+", which is untied from it", "Nothing was done yet")
	w.Says(append(arguments, "--yes"))
	assert.Equal(t, second, w.User(ada)["id"])
	assert.Equal(t, map[string]string{"cn=Ada Lind," + worldtest.People: string(problem.HeldByHand)}, w.Problems())
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 2, "no second account")
	w.Says([]string{"why", twin}, "its resource is in step")
}
