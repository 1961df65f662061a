package cloudgroups_test

import (
	"fmt"
	"math/rand/v2"
	"net/url"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// standing are the open problems of groups by what they are about.
func standing(w *worldtest.World, of about.Type) map[string]wire.Problem {
	w.T.Helper()
	page, err := w.Client.Problems(w.T.Context(), url.Values{"about": {string(of)}})
	require.NoError(w.T, err)
	out := map[string]wire.Problem{}
	for _, p := range page.Items {
		out[p.Name] = p
	}
	return out
}

// TestNamesThatClash gives groups names that somebody has, in the directory and in the cloud.
func TestNamesThatClash(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{})
	own := ldap.NewAddRequest("cn=Regatta,"+worldtest.CloudGroups, nil)
	own.Attribute("objectClass", []string{"groupOfNames"})
	own.Attribute("member", []string{"cn=Cato," + worldtest.People})
	require.NoError(t, w.LDAP.Add(own))
	w.CloudGroup("Regatta", "Anna")
	w.CloudGroup("Crew North", "Anna")
	w.CloudGroup("Crew South", "Bo")
	w.Activate(worldtest.GroupDocument(func(c *settings.CloudGroups) {
		c.Rules = []settings.Rule{{Target: "cn", Formula: `resource.displayName.split(" ")[0]`, Required: true}}
	}))
	rehearsed := w.Run(wire.NewRun{Purpose: purpose.Rehearsal})
	run := w.Run(wire.NewRun{})
	assert.Equal(t, 2, run.Counts.Problems, "%+v", run.Counts)
	assert.Equal(t, [2]int{rehearsed.Counts.Problems, rehearsed.Counts.Create}, [2]int{run.Counts.Problems, run.Counts.Create})
	open := standing(w, about.CloudGroup)
	require.Len(t, open, 2)
	assert.Contains(t, open["Regatta in brisling"].Detail, "also that of cn=Regatta,"+worldtest.CloudGroups)
	kept := w.KeptGroups(worldtest.CloudGroups)
	require.Len(t, kept, 2)
	assert.Equal(t, []string{"Cato"}, kept["Regatta"].Members, "the directory's own group is as it was")
	w.Activate(worldtest.GroupDocument(func(c *settings.CloudGroups) {
		c.Rules = []settings.Rule{{Target: "cn", Formula: `"C " + resource.displayName`, Required: true}}
	}))
	well(w)
	assert.Len(t, w.KeptGroups(worldtest.CloudGroups), 4)
	assert.Empty(t, standing(w, about.CloudGroup))
}

// TestWhatTheDirectoryRefusesIsAProblemOfItsOwn refuses a member, the attribute of the mark,
// and the whole container, and goes on with the rest.
func TestWhatTheDirectoryRefusesIsAProblemOfItsOwn(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{Access: fmt.Sprintf("access to dn.subtree=%q attrs=member val.regex=\"^cn=Bo,.*$\" by dn.exact=\"uid=svc-kambrel,ou=Service Accounts,%s\" read by * break\n", worldtest.CloudGroups, worldtest.Base)})
	w.CloudGroup("Regatta", "Anna", "Bo", "Cato")
	w.CloudGroup("Board", "Cato")
	for range 2 {
		run := w.Run(wire.NewRun{})
		assert.Equal(t, 1, run.Counts.Problems, "%+v", run.Counts)
	}
	kept := w.KeptGroups(worldtest.CloudGroups)
	assert.Equal(t, []string{"Anna", "Cato"}, kept["Regatta"].Members)
	assert.Equal(t, []string{"Cato"}, kept["Board"].Members)
	open := standing(w, about.CloudGroup)
	assert.Equal(t, string(problem.CloudMembersRefused), open["Regatta in brisling"].Code, "%+v", open)
	assert.Contains(t, open["Regatta in brisling"].Detail, "cn=Bo,"+worldtest.People)
	w.Says([]string{"cloud-groups", "members", "Regatta", "--left-out"}, "refused", "Insufficient Access Rights")

	w.Activate(worldtest.GroupDocument(func(c *settings.CloudGroups) { c.Mark = "madeUpAttribute" }))
	w.CloudGroup("Crew", "Anna")
	w.Run(wire.NewRun{})
	assert.Equal(t, string(problem.CloudGroupMark), standing(w, about.CloudGroup)["Crew in brisling"].Code)

	w.Activate(worldtest.GroupDocument(func(c *settings.CloudGroups) { c.Container = "ou=Nowhere," + worldtest.Base }))
	w.Person("Elin", nil)
	out, _, status := w.Kambrel("sync")
	assert.Equal(t, 2, status, out)
	assert.Contains(t, out, "left out the cloud groups of brisling: The container of the cloud groups is missing")
	assert.NotNil(t, w.User("elin@brisling.example"), "the rest goes on")
	assert.Equal(t, string(problem.CloudGroupContainer), standing(w, about.Directory)["brisling"].Code)
	assert.Len(t, w.KeptGroups(worldtest.CloudGroups), 2)

	w.Activate(worldtest.GroupDocument(func(c *settings.CloudGroups) { c.Only = []string{w.ID("Board")} }))
	w.Run(wire.NewRun{})
	assert.Empty(t, standing(w, about.Directory))
}

// TestAnEmptyGroupHoldsAPlaceholder empties a group whose class needs a member, and fills it.
func TestAnEmptyGroupHoldsAPlaceholder(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{})
	regatta := w.CloudGroup("Regatta", "Anna")
	w.CloudGroup("Board", "Dora")
	well(w)
	members := func(name string) []string { return w.KeptGroups(worldtest.CloudGroups)[name].Members }
	assert.Equal(t, []string{"Cloud Groups"}, members("Board"), "nobody of it is here")
	w.CloudMember(regatta, false, "Anna")
	well(w)
	assert.Equal(t, []string{"Cloud Groups"}, members("Regatta"))
	w.InStep(0)
	w.InStep(0)
	w.CloudMember(regatta, true, "Bo")
	well(w)
	assert.Equal(t, []string{"Bo"}, members("Regatta"))
	w.InStep(0)
	w.Activate(worldtest.GroupDocument(func(c *settings.CloudGroups) { c.Empty = settings.WaitsForFirst }))
	w.CloudGroup("Crew", "Dora")
	well(w)
	assert.NotContains(t, w.KeptGroups(worldtest.CloudGroups), "Crew")
	w.CloudMember(w.ID("Crew"), true, "Cato")
	well(w)
	assert.Equal(t, []string{"Cato"}, members("Crew"))
}

// TestEveryClassOfGroups keeps, empties and nests groups of the classes that are not the
// usual one.
func TestEveryClassOfGroups(t *testing.T) {
	t.Parallel()
	for class, empty := range map[string][]string{"groupOfUniqueNames": {"Cloud Groups"}, "groupOfMembers": {}} {
		t.Run(class, func(t *testing.T) {
			w := worldtest.WithCloudGroups(t, worldtest.Options{})
			w.Activate(worldtest.GroupDocument(func(c *settings.CloudGroups) { c.Class = class }))
			regatta := w.CloudGroup("Regatta", "Anna", "Bo")
			w.CloudGroup("Board", "Regatta", "Cato")
			w.CloudGroup("Crew", "Dora")
			well(w)
			members := func(name string) []string { return w.KeptGroups(worldtest.CloudGroups)[name].Members }
			assert.Equal(t, []string{"Anna", "Bo"}, members("Regatta"))
			assert.Equal(t, []string{"Cato", "Regatta"}, members("Board"))
			assert.Equal(t, empty, members("Crew"), "nobody of it is here")
			w.InStep(0)
			uuid := w.KeptGroups(worldtest.CloudGroups)["Regatta"].UUID
			w.RenameCloudGroup(regatta, "Race")
			for _, person := range []string{"Anna", "Bo"} {
				w.CloudMember(regatta, false, person)
			}
			well(w)
			assert.Equal(t, empty, members("Race"))
			assert.Equal(t, uuid, w.KeptGroups(worldtest.CloudGroups)["Race"].UUID)
			assert.Equal(t, []string{"Cato", "Race"}, members("Board"))
			w.InStep(0)

			// An entry has its class for good: with another one in the settings the groups that
			// are there are problems and stay what they are, and all go on once it is set back.
			before := w.KeptGroups(worldtest.CloudGroups)
			w.Activate(worldtest.GroupDocument(nil))
			w.CloudMember(regatta, true, "Bo")
			w.CloudGroup("Divers", "Anna")
			w.Run(wire.NewRun{})
			assert.Equal(t, []string{"Anna"}, members("Divers"))
			assert.Equal(t, uuid, w.KeptGroups(worldtest.CloudGroups)["Race"].UUID)
			wrong := standing(w, about.CloudGroup)
			for name, group := range before {
				assert.Equal(t, group.UUID, w.KeptGroups(worldtest.CloudGroups)[name].UUID)
				assert.Contains(t, wrong, name+" in brisling")
			}
			assert.Equal(t, before["Board"], w.KeptGroups(worldtest.CloudGroups)["Board"])
			if class == "groupOfUniqueNames" {
				assert.Equal(t, empty, members("Race"), "the other class names its members otherwise")
			}
			w.Activate(worldtest.GroupDocument(func(c *settings.CloudGroups) { c.Class = class }))
			w.Run(wire.NewRun{})
			assert.Equal(t, []string{"Bo"}, members("Race"))
			wrong = standing(w, about.CloudGroup)
			assert.Len(t, wrong, 1, "the one of the class between")
			assert.Contains(t, wrong, "Divers in brisling")
		})
	}
}

// TestKilledAtRandomMomentsNothingIsTwice kills service and agent twenty times in the midst
// of writing, and comes to the same end.
func TestKilledAtRandomMomentsNothingIsTwice(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{})
	people := []string{"Anna", "Bo", "Cato", "Dora"}
	ids, want := []string{}, map[string][]string{}
	for i := range 40 {
		name := fmt.Sprintf("Crew %02d", i)
		ids = append(ids, w.CloudGroup(name, people[i%3], "Dora"))
		want[name] = []string{people[i%3]}
	}
	random := rand.New(rand.NewPCG(12, 7))
	interrupted := 0
	for round := range 20 {
		if round > 0 {
			for i := round % 4; i < len(ids); i += 4 {
				name := fmt.Sprintf("Crew %02d", i)
				w.RenameCloudGroup(ids[i], fmt.Sprintf("%s of round %d", name, round))
				delete(want, name)
				for have := range want {
					if len(have) > 7 && have[:7] == name {
						delete(want, have)
					}
				}
				want[fmt.Sprintf("%s of round %d", name, round)] = []string{people[i%3]}
			}
		}
		started, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Sync})
		require.NoError(t, err)
		most := random.IntN(40)
		if !w.AwaitMoment(started.ID, func(r wire.Run) bool { return r.Stage == "write" || r.Counts.Changes > most }) {
			continue
		}
		interrupted++
		until := time.Now().Add(time.Duration(random.IntN(200)) * time.Millisecond)
		w.AwaitMoment(started.ID, func(wire.Run) bool { return time.Now().After(until) })
		if round%2 == 0 {
			w.Agent.Kill()
			w.StartAgent()
		} else {
			w.Service.Kill()
			w.StartService()
		}
		w.Wait(started.ID)
	}
	assert.Greater(t, interrupted, 10)
	well(w)
	well(w)
	kept := w.KeptGroups(worldtest.CloudGroups)
	require.Len(t, kept, 40, "none twice, none lost")
	marks := map[string]bool{}
	for name, group := range kept {
		assert.Equal(t, want[name], group.Members, name)
		marks[group.Mark] = true
	}
	assert.Len(t, marks, 40)
}
