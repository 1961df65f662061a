package sync_test

import (
	"fmt"
	"math/rand/v2"
	"net/url"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

func TestClashesAreProblemsWithBothSidesNamed(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	w.Activate(worldtest.Document())
	ada, bo := w.Person("Ada Brekke", nil), w.Person("Bo Ravn", nil)
	w.InStep(2)

	// A newcomer with a login that somebody has gets none, and the one who has
	// it is left alone.
	twin := w.Person("Ada Twin", map[string]string{"mail": "ada.brekke@brisling.example"})
	run := w.Run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	assert.Zero(t, run.Counts.Changes)
	assert.Equal(t, 1, run.Counts.Problems)
	entries := url.Values{"about": {"entry"}}
	problems, err := w.Client.Problems(t.Context(), entries)
	require.NoError(t, err)
	require.Len(t, problems.Items, 1)
	assert.Equal(t, twin, problems.Items[0].DN)
	assert.Contains(t, problems.Items[0].Detail, "ada.brekke@brisling.example")
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 2)

	// The problem closes itself when its cause is gone.
	w.Set(twin, "mail", "ada.twin@brisling.example")
	w.InStep(1)
	problems, err = w.Client.Problems(t.Context(), entries)
	require.NoError(t, err)
	assert.Empty(t, problems.Items)
	closed, err := w.Client.Problems(t.Context(), url.Values{"about": {"entry"}, "closed": {"true"}})
	require.NoError(t, err)
	require.Len(t, closed.Items, 1)
	assert.Equal(t, "the cause is gone", closed.Items[0].Closing)

	// One takes over what another gives up in the same run.
	before := w.User("bo.ravn@brisling.example")["id"]
	w.Set(ada, "mail", "ada.lind@brisling.example")
	w.Set(bo, "mail", "ada.brekke@brisling.example")
	run = w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run)
	assert.Equal(t, before, w.User("ada.brekke@brisling.example")["id"], "each person keeps the resource")
}

func TestResourcesOfTheCloudAreAdoptedOrLeftAlone(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	w.Activate(worldtest.Document())
	create := func(login string, more map[string]any) string {
		body := map[string]any{"userName": login}
		for name, value := range more {
			body[name] = value
		}
		status, made := worldtest.SCIM(t, w.Address(), "POST", w.Cloud.URL+"/Users", body)
		require.Equal(t, 201, status, made)
		return made["id"].(string)
	}
	jon := create("Jon.Sletta@brisling.example", map[string]any{"nickName": "Jonny", "emails": []any{map[string]any{"type": "home", "value": "jon@home.example"}}})
	chief := create("harbourmaster@brisling.example", map[string]any{"roles": []any{map[string]any{"type": "administrative", "value": "directory"}}})
	other := create("only.cloud@brisling.example", nil)
	w.Person("Jon Sletta", map[string]string{"title": "Mate"})
	w.Person("Harbourmaster", nil)

	run := w.Run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	assert.Equal(t, 1, run.Counts.Adopt)
	assert.Equal(t, 1, run.Counts.Changes)
	adopted := w.User("jon.sletta@brisling.example")
	assert.Equal(t, jon, adopted["id"])
	assert.Equal(t, "Jonny", adopted["nickName"], "no rule manages it")
	assert.Equal(t, "Mate", adopted["title"])
	assert.Len(t, adopted["emails"], 2, "the home address stays")
	assert.NotEmpty(t, adopted["externalId"])
	assert.Nil(t, w.User("harbourmaster@brisling.example")["externalId"], "a resource with a role is never adopted by a rule")
	why, err := w.Client.Why(t.Context(), "cn=Harbourmaster,"+worldtest.People)
	require.NoError(t, err)
	assert.Contains(t, why.Summary, problem.Describe(problem.ProtectedResource).Title)
	assert.Contains(t, why.Summary, chief)
	why, err = w.Client.Why(t.Context(), other)
	require.NoError(t, err)
	assert.Contains(t, why.Summary, "in the cloud only")
}

func TestDriftAndVanishedResourcesArePutRight(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	w.Activate(worldtest.Document())
	w.Person("Ada Brekke", map[string]string{"title": "Mate"})
	w.InStep(1)
	id := w.User("ada.brekke@brisling.example")["id"].(string)
	worldtest.Patch(t, w.Address(), "Users/"+id, worldtest.Operation("replace", "title", "Captain"), worldtest.Operation("add", "nickName", "A"))
	w.InStep(1)
	ada := w.User("ada.brekke@brisling.example")
	assert.Equal(t, "Mate", ada["title"])
	assert.Equal(t, "A", ada["nickName"])

	status, _ := worldtest.SCIM(t, w.Address(), "DELETE", w.Cloud.URL+"/Users/"+id, nil)
	require.Equal(t, 204, status)
	run := w.Run(wire.NewRun{Purpose: purpose.Full})
	require.Equal(t, progress.InStep, run.State)
	assert.Equal(t, 1, run.Counts.Create)
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 1)
	w.InStep(0)
}

func TestTheGuardHoldsRemovalsUntilTheyAreReleased(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(40))
	d := worldtest.Document()
	w.Activate(d)
	w.InStep(40)
	d.Directories[0].Containers.Include = []string{worldtest.Leavers}
	d.Directories[0].Containers.Exclude = []string{worldtest.People}
	w.Activate(d)
	rehearsed := w.Run(wire.NewRun{Purpose: purpose.Rehearsal})
	assert.Equal(t, 40, rehearsed.Counts.Held, "the rehearsal tells what the guard will say")
	w.Person("Nils Fjord", nil)
	run := w.Run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	assert.Equal(t, 40, run.Counts.Held)
	assert.Len(t, worldtest.Users(t, w.Address(), "active eq true"), 40, "nobody is suspended")

	out, _, status := w.Kambrel("runs", "release", fmt.Sprint(run.ID))
	assert.Zero(t, status)
	assert.Contains(t, out, "suspend or delete 40 people")
	assert.Len(t, worldtest.Users(t, w.Address(), "active eq true"), 40, "without --yes it only says what it would do")
	_, _, status = w.Kambrel("runs", "release", fmt.Sprint(run.ID), "--yes")
	assert.Zero(t, status)
	assert.Empty(t, worldtest.Users(t, w.Address(), "active eq true"))

	// Back in scope, everybody has the same resource.
	w.Activate(worldtest.Document())
	run = w.Run(wire.NewRun{})
	assert.Equal(t, 40, run.Counts.Restore)
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 41)
}

func TestAScopeWhoseContainerVanishedStopsTheRun(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(5))
	w.Activate(worldtest.Document())
	w.InStep(5)
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest(worldtest.People, "ou=Crew", true, "")))
	run := w.Run(wire.NewRun{})
	assert.Equal(t, progress.Failed, run.State)
	require.NotNil(t, run.Failure)
	assert.Equal(t, string(problem.ContainerMissing), run.Failure.Code)
	assert.Len(t, worldtest.Users(t, w.Address(), "active eq true"), 5, "nobody is taken for out of scope")
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest("ou=Crew,"+worldtest.Base, "ou=People", true, "")))
	w.InStep(0)
}

func TestARehearsalWritesNothingAndForgetsNothing(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(3))
	w.Activate(worldtest.Document())
	run := w.Run(wire.NewRun{Purpose: purpose.Rehearsal})
	assert.Equal(t, 3, run.Counts.Create)
	assert.Empty(t, worldtest.Users(t, w.Address(), ""))
	changes, err := w.Client.Changes(t.Context(), run.ID, nil)
	require.NoError(t, err)
	require.Len(t, changes.Items, 3)
	assert.Equal(t, "planned", changes.Items[0].State)
	assert.NotEmpty(t, changes.Items[0].Diffs)
	w.InStep(3)
	full := w.Run(wire.NewRun{Purpose: purpose.Forecast})
	assert.Zero(t, full.Counts.Changes)
}

// TestSettingsActivatedDuringARunAreNotLost activates others at every stage of
// a run: the next one brings everybody in step with them.
func TestSettingsActivatedDuringARunAreNotLost(t *testing.T) {
	t.Parallel()
	const crew = 300
	w := worldtest.NewRaced(t, worldtest.LDIFPeople(crew))
	d := worldtest.Document()
	w.Activate(d)
	for i, stage := range []string{"read", "plan", "write"} {
		started, err := w.Client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Full})
		require.NoError(t, err)
		w.AwaitMoment(started.ID, func(r wire.Run) bool { return r.Stage == stage })
		kind := fmt.Sprintf("Kind %d", i)
		d.Users.Rules = append(worldtest.Document().Users.Rules, settings.Rule{Target: "userType", Always: kind})
		w.Activate(d)
		w.Wait(started.ID)
		require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
		assert.Len(t, worldtest.Users(t, w.Address(), fmt.Sprintf("userType eq %q", kind)), crew, "activated while the run was at %s", stage)
	}
}

// TestRandomHistories edits the directory at random, with delta runs between:
// what they come to must be what a full look at everything would want.
func TestRandomHistories(t *testing.T) {
	t.Parallel()
	w := worldtest.NewRaced(t, worldtest.TeamsLDIF)
	d := worldtest.WithGroups()
	d.Guard.Removals = 1000
	w.Activate(d)
	random := rand.New(rand.NewPCG(7, 11))
	dns := map[int]string{}
	next := 0
	crews := []string{w.Group("Crew A", "cn=Nobody,"+worldtest.People), w.Group("Crew B", "cn=Nobody,"+worldtest.People)}
	in := map[[2]string]bool{} // group and member, by name
	for step := range 12 {
		for range 8 {
			n := random.IntN(next + 1)
			dn, there := dns[n]
			switch action := random.IntN(8); {
			case !there || action == 0:
				dns[next] = w.Person(fmt.Sprintf("Crew %03d", next), map[string]string{"title": "Hand"})
				next++
			case action == 1:
				w.Set(dn, "title", fmt.Sprintf("Title %d", random.IntN(5)))
			case action == 2:
				w.Set(dn, "mail", fmt.Sprintf("login%d@brisling.example", random.IntN(1000)+1000*n))
			case action == 3:
				rdn := fmt.Sprintf("cn=Renamed %03d-%d", n, step)
				parent := map[bool]string{true: worldtest.People, false: worldtest.Leavers}[random.IntN(2) == 0]
				require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest(dn, rdn, true, parent)))
				dns[n] = rdn + "," + parent
			case action == 4:
				require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(dn, nil)))
				delete(dns, n)
			case action == 6:
				at := [2]string{crews[random.IntN(2)], dn}
				w.Member(at[0], !in[at], at[1])
				in[at] = !in[at]
			case action == 7 && dns[0] != "":
				w.Set(dn, "manager", dns[0])
			case action == 5:
				w.Set(dn, "telephoneNumber", fmt.Sprint(random.IntN(100)))
			}
		}
		require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	}
	full := w.Run(wire.NewRun{Purpose: purpose.Forecast})
	assert.Zero(t, full.Counts.Changes, "the deltas have come to what everything at once would be")
	inScope := map[string]bool{}
	for _, dn := range dns {
		if dn[len(dn)-len(worldtest.People):] == worldtest.People {
			inScope[dn] = true
		}
	}
	assert.Len(t, worldtest.Users(t, w.Address(), "active eq true"), len(inScope))
	for i, crew := range []string{"Crew A", "Crew B"} {
		want := 0
		for at, is := range in {
			if is && at[0] == crews[i] && inScope[at[1]] {
				want++
			}
		}
		assert.Len(t, worldtest.Members(t, w.Address(), crew), want, "just those whom the directory names and who are in scope")
	}
}
