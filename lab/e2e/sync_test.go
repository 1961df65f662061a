package e2e

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
	"kambrel.example/kambrel/protocol/wire"
)

func TestClashesAreProblemsWithBothSidesNamed(t *testing.T) {
	t.Parallel()
	w := newRaced(t, "")
	w.activate(document())
	ada, bo := w.person("Ada Brekke", nil), w.person("Bo Ravn", nil)
	w.inStep(2)

	// A newcomer with a login that somebody has gets none, and the one who has
	// it is left alone.
	twin := w.person("Ada Twin", map[string]string{"mail": "ada.brekke@brisling.example"})
	run := w.run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	assert.Zero(t, run.Counts.Changes)
	assert.Equal(t, 1, run.Counts.Problems)
	entries := url.Values{"about": {"entry"}}
	problems, err := w.client.Problems(t.Context(), entries)
	require.NoError(t, err)
	require.Len(t, problems.Items, 1)
	assert.Equal(t, twin, problems.Items[0].DN)
	assert.Contains(t, problems.Items[0].Detail, "ada.brekke@brisling.example")
	assert.Len(t, users(t, w.address(), ""), 2)

	// The problem closes itself when its cause is gone.
	w.set(twin, "mail", "ada.twin@brisling.example")
	w.inStep(1)
	problems, err = w.client.Problems(t.Context(), entries)
	require.NoError(t, err)
	assert.Empty(t, problems.Items)
	closed, err := w.client.Problems(t.Context(), url.Values{"about": {"entry"}, "closed": {"true"}})
	require.NoError(t, err)
	require.Len(t, closed.Items, 1)
	assert.Equal(t, "the cause is gone", closed.Items[0].Closing)

	// One takes over what another gives up in the same run.
	before := w.user("bo.ravn@brisling.example")["id"]
	w.set(ada, "mail", "ada.lind@brisling.example")
	w.set(bo, "mail", "ada.brekke@brisling.example")
	run = w.run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run)
	assert.Equal(t, before, w.user("ada.brekke@brisling.example")["id"], "each person keeps the resource")
}

func TestResourcesOfTheCloudAreAdoptedOrLeftAlone(t *testing.T) {
	t.Parallel()
	w := newRaced(t, "")
	w.activate(document())
	create := func(login string, more map[string]any) string {
		body := map[string]any{"userName": login}
		for name, value := range more {
			body[name] = value
		}
		status, made := scim(t, w.address(), "POST", w.cloud.URL+"/Users", body)
		require.Equal(t, 201, status, made)
		return made["id"].(string)
	}
	jon := create("Jon.Sletta@brisling.example", map[string]any{"nickName": "Jonny", "emails": []any{map[string]any{"type": "home", "value": "jon@home.example"}}})
	chief := create("harbourmaster@brisling.example", map[string]any{"roles": []any{map[string]any{"type": "administrative", "value": "directory"}}})
	other := create("only.cloud@brisling.example", nil)
	w.person("Jon Sletta", map[string]string{"title": "Mate"})
	w.person("Harbourmaster", nil)

	run := w.run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	assert.Equal(t, 1, run.Counts.Adopt)
	assert.Equal(t, 1, run.Counts.Changes)
	adopted := w.user("jon.sletta@brisling.example")
	assert.Equal(t, jon, adopted["id"])
	assert.Equal(t, "Jonny", adopted["nickName"], "no rule manages it")
	assert.Equal(t, "Mate", adopted["title"])
	assert.Len(t, adopted["emails"], 2, "the home address stays")
	assert.NotEmpty(t, adopted["externalId"])
	assert.Nil(t, w.user("harbourmaster@brisling.example")["externalId"], "a resource with a role is never adopted by a rule")
	why, err := w.client.Why(t.Context(), "cn=Harbourmaster,"+people)
	require.NoError(t, err)
	assert.Contains(t, why.Summary, problem.Describe(problem.ProtectedResource).Title)
	assert.Contains(t, why.Summary, chief)
	why, err = w.client.Why(t.Context(), other)
	require.NoError(t, err)
	assert.Contains(t, why.Summary, "in the cloud only")
}

func TestDriftAndVanishedResourcesArePutRight(t *testing.T) {
	t.Parallel()
	w := newRaced(t, "")
	w.activate(document())
	w.person("Ada Brekke", map[string]string{"title": "Mate"})
	w.inStep(1)
	id := w.user("ada.brekke@brisling.example")["id"].(string)
	status, _ := scim(t, w.address(), "PATCH", w.cloud.URL+"/Users/"+id, map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"},
		"Operations": []any{map[string]any{"op": "replace", "path": "title", "value": "Captain"}, map[string]any{"op": "add", "path": "nickName", "value": "A"}}})
	require.Equal(t, 200, status)
	w.inStep(1)
	ada := w.user("ada.brekke@brisling.example")
	assert.Equal(t, "Mate", ada["title"])
	assert.Equal(t, "A", ada["nickName"])

	status, _ = scim(t, w.address(), "DELETE", w.cloud.URL+"/Users/"+id, nil)
	require.Equal(t, 204, status)
	run := w.run(wire.NewRun{Purpose: purpose.Full})
	require.Equal(t, progress.InStep, run.State)
	assert.Equal(t, 1, run.Counts.Create)
	assert.Len(t, users(t, w.address(), ""), 1)
	w.inStep(0)
}

func TestTheGuardHoldsRemovalsUntilTheyAreReleased(t *testing.T) {
	t.Parallel()
	w := newRaced(t, ldifPeople(40))
	d := document()
	w.activate(d)
	w.inStep(40)
	d.Directories[0].Containers.Include = []string{leavers}
	d.Directories[0].Containers.Exclude = []string{people}
	w.activate(d)
	rehearsed := w.run(wire.NewRun{Purpose: purpose.Rehearsal})
	assert.Equal(t, 40, rehearsed.Counts.Held, "the rehearsal tells what the guard will say")
	w.person("Nils Fjord", nil)
	run := w.run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	assert.Equal(t, 40, run.Counts.Held)
	assert.Len(t, users(t, w.address(), "active eq true"), 40, "nobody is suspended")

	out, _, status := w.kambrel("runs", "release", fmt.Sprint(run.ID))
	assert.Zero(t, status)
	assert.Contains(t, out, "40 removals")
	assert.Len(t, users(t, w.address(), "active eq true"), 40, "without --yes it only says what it would do")
	_, _, status = w.kambrel("runs", "release", fmt.Sprint(run.ID), "--yes")
	assert.Zero(t, status)
	assert.Empty(t, users(t, w.address(), "active eq true"))

	// Back in scope, everybody has the same resource.
	w.activate(document())
	run = w.run(wire.NewRun{})
	assert.Equal(t, 40, run.Counts.Restore)
	assert.Len(t, users(t, w.address(), ""), 41)
}

func TestAScopeWhoseContainerVanishedStopsTheRun(t *testing.T) {
	t.Parallel()
	w := newRaced(t, ldifPeople(5))
	w.activate(document())
	w.inStep(5)
	require.NoError(t, w.ldap.ModifyDN(ldap.NewModifyDNRequest(people, "ou=Crew", true, "")))
	run := w.run(wire.NewRun{})
	assert.Equal(t, progress.Failed, run.State)
	require.NotNil(t, run.Failure)
	assert.Equal(t, string(problem.ContainerMissing), run.Failure.Code)
	assert.Len(t, users(t, w.address(), "active eq true"), 5, "nobody is taken for out of scope")
	require.NoError(t, w.ldap.ModifyDN(ldap.NewModifyDNRequest("ou=Crew,"+base, "ou=People", true, "")))
	w.inStep(0)
}

func TestARehearsalWritesNothingAndForgetsNothing(t *testing.T) {
	t.Parallel()
	w := newRaced(t, ldifPeople(3))
	w.activate(document())
	run := w.run(wire.NewRun{Purpose: purpose.Rehearsal})
	assert.Equal(t, 3, run.Counts.Create)
	assert.Empty(t, users(t, w.address(), ""))
	changes, err := w.client.Changes(t.Context(), run.ID, nil)
	require.NoError(t, err)
	require.Len(t, changes.Items, 3)
	assert.Equal(t, "planned", changes.Items[0].State)
	assert.NotEmpty(t, changes.Items[0].Diffs)
	w.inStep(3)
	full := w.run(wire.NewRun{Purpose: purpose.Forecast})
	assert.Zero(t, full.Counts.Changes)
}

// TestSettingsActivatedDuringARunAreNotLost activates others at every stage of
// a run: the next one brings everybody in step with them.
func TestSettingsActivatedDuringARunAreNotLost(t *testing.T) {
	t.Parallel()
	const crew = 800
	w := newRaced(t, ldifPeople(crew))
	d := document()
	w.activate(d)
	for i, stage := range []string{"read", "plan", "write"} {
		started, err := w.client.StartRun(t.Context(), wire.NewRun{Purpose: purpose.Full})
		require.NoError(t, err)
		w.awaitMoment(started.ID, func(r wire.Run) bool { return r.Stage == stage })
		kind := fmt.Sprintf("Kind %d", i)
		d.Users.Rules = append(document().Users.Rules, settings.Rule{Target: "userType", Always: kind})
		w.activate(d)
		w.wait(started.ID)
		require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
		assert.Len(t, users(t, w.address(), fmt.Sprintf("userType eq %q", kind)), crew, "activated while the run was at %s", stage)
	}
}

// TestRandomHistories edits the directory at random, with delta runs between:
// what they come to must be what a full look at everything would want.
func TestRandomHistories(t *testing.T) {
	t.Parallel()
	w := newRaced(t, teamsLDIF)
	d := withGroups()
	d.Guard.Removals = 1000
	w.activate(d)
	random := rand.New(rand.NewPCG(7, 11))
	dns := map[int]string{}
	next := 0
	crews := []string{w.group("Crew A", "cn=Nobody,"+people), w.group("Crew B", "cn=Nobody,"+people)}
	in := map[[2]string]bool{} // group and member, by name
	for step := range 12 {
		for range 8 {
			n := random.IntN(next + 1)
			dn, there := dns[n]
			switch action := random.IntN(8); {
			case !there || action == 0:
				dns[next] = w.person(fmt.Sprintf("Crew %03d", next), map[string]string{"title": "Hand"})
				next++
			case action == 1:
				w.set(dn, "title", fmt.Sprintf("Title %d", random.IntN(5)))
			case action == 2:
				w.set(dn, "mail", fmt.Sprintf("login%d@brisling.example", random.IntN(1000)+1000*n))
			case action == 3:
				rdn := fmt.Sprintf("cn=Renamed %03d-%d", n, step)
				parent := map[bool]string{true: people, false: leavers}[random.IntN(2) == 0]
				require.NoError(t, w.ldap.ModifyDN(ldap.NewModifyDNRequest(dn, rdn, true, parent)))
				dns[n] = rdn + "," + parent
			case action == 4:
				require.NoError(t, w.ldap.Del(ldap.NewDelRequest(dn, nil)))
				delete(dns, n)
			case action == 6:
				at := [2]string{crews[random.IntN(2)], dn}
				w.member(at[0], !in[at], at[1])
				in[at] = !in[at]
			case action == 7 && dns[0] != "":
				w.set(dn, "manager", dns[0])
			case action == 5:
				w.set(dn, "telephoneNumber", fmt.Sprint(random.IntN(100)))
			}
		}
		require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	}
	full := w.run(wire.NewRun{Purpose: purpose.Forecast})
	assert.Zero(t, full.Counts.Changes, "the deltas have come to what everything at once would be")
	inScope := map[string]bool{}
	for _, dn := range dns {
		if dn[len(dn)-len(people):] == people {
			inScope[dn] = true
		}
	}
	assert.Len(t, users(t, w.address(), "active eq true"), len(inScope))
	for i, crew := range []string{"Crew A", "Crew B"} {
		want := 0
		for at, is := range in {
			if is && at[0] == crews[i] && inScope[at[1]] {
				want++
			}
		}
		assert.Len(t, members(t, w.address(), crew), want, "just those whom the directory names and who are in scope")
	}
}
