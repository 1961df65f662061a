package sync_test

import (
	"fmt"
	"net/http"
	"strings"
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

// TestWhatHangsOnAHeldRemovalIsHeldWithIt lets people vanish whom groups and
// managers still name, and then others whom the directory has taken out of the
// groups as well: nothing of it goes before somebody has decided.
func TestWhatHangsOnAHeldRemovalIsHeldWithIt(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, habitLDIF(), worldtest.Options{})
	d := worldtest.WithGroups()
	d.Guard = settings.Guard{Removals: 3, Share: 10}
	w.Activate(d)
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	before := look(w)
	vanish := func(i int) {
		require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(fmt.Sprintf("cn=Crew %02d,%s", i, worldtest.People), nil)))
	}
	for i := range 8 { // two managers among them
		vanish(i)
	}
	w.Member("cn=Team 2,"+worldtest.Teams, false, "cn=Crew 02,"+worldtest.People) // as a directory does that keeps its references itself
	w.Set("cn=Crew 20,"+worldtest.People, "title", "Mate")
	run := w.Run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	assert.Equal(t, 8, run.Counts.Held, "%+v", run.Counts)
	before.Titles["crew20"] = "Mate"
	assert.Equal(t, before, look(w), "members and managers are as they were")
	assert.NotZero(t, run.Counts.Hanging)

	for _, one := range []purpose.Purpose{purpose.Sync, purpose.Full} { // and so it stays
		again := w.Run(wire.NewRun{Purpose: one})
		assert.Equal(t, 8, again.Counts.Held, "%+v", again.Counts)
		assert.Equal(t, run.Counts.Hanging, again.Counts.Hanging)
		assert.Equal(t, before, look(w))
		run = again
	}
	group := w.Why("Team 2")
	trial, err := w.Client.Try(t.Context(), wire.NewTrial{Text: group.Entry.ID.String(), Write: true})
	require.NoError(t, err)
	w.Wait(trial.RunID)
	assert.Equal(t, before, look(w), "a trial of one group takes nothing either")

	out, _, _ := w.Kambrel("health")
	assert.Contains(t, out, "would suspend or delete 8 people, and with them", out)
	changes, err := w.Client.Changes(t.Context(), run.ID, map[string][]string{"state": {"held"}, "kind": {"group"}})
	require.NoError(t, err)
	assert.NotEmpty(t, changes.Items, "the run tells what hangs on them")

	released, err := w.Client.Release(t.Context(), run.ID)
	require.NoError(t, err)
	require.Equal(t, progress.InStep, w.Wait(released.ID).State)
	after := look(w)
	for team, members := range after.Members {
		for i := range 8 {
			assert.NotContains(t, members, fmt.Sprintf("crew%02d", i), team)
		}
	}
	assert.Empty(t, after.Managers["crew08"], "who has gone is nobody's manager any more")
	full := w.Run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, full.Counts.Changes+full.Counts.Held, "%+v", full.Counts)
}

// TestAccessIsTakenAwayWhateverElseIsWrong disables people of whom another value
// cannot be sent, by the plan or by the cloud's word.
func TestAccessIsTakenAwayWhateverElseIsWrong(t *testing.T) {
	t.Parallel()
	b := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.TeamsLDIF, worldtest.Options{Between: b})
	suffix, taken, refused := w.Person("Eskil Moe", map[string]string{"title": "Mate"}), w.Person("Pia Holmen", nil), w.Person("Odd Strand", map[string]string{"title": "Mate"})
	w.Person("Runa Strand", nil)
	crew := w.Group("Crew", suffix, taken)
	d := worldtest.WithGroups()
	for i := range d.Users.Rules {
		if d.Users.Rules[i].Target == "active" {
			d.Users.Rules[i] = settings.Rule{Target: "active", Formula: `entry.employeeType != "ended"`}
		}
	}
	d.Users.Rules = append(d.Users.Rules, settings.Rule{Target: "roles", Granted: []settings.Grant{{Group: crew, Value: "bridge"}}})
	w.Activate(d)
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	require.NotEmpty(t, w.User("eskil.moe@brisling.example")["roles"])

	for _, dn := range []string{suffix, taken, refused} {
		w.Set(dn, "employeeType", "ended")
	}
	w.Member(crew, false, suffix)
	w.Set(suffix, "mail", "eskil.moe@corp.brisling.example") // a domain that is not verified
	w.Set(suffix, "title", "Retired")
	w.Set(taken, "mail", "runa.strand@brisling.example")
	w.Set(refused, "title", "Refused")
	b.Takes(func(answer http.ResponseWriter, r *http.Request) bool {
		body := worldtest.BodyOf(r)
		if r.Method == http.MethodGet || !strings.Contains(body, "Refused") {
			return false
		}
		answer.Header().Set("Content-Type", "application/scim+json")
		answer.WriteHeader(http.StatusBadRequest)
		fmt.Fprint(answer, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:Error"],"status":"400","scimType":"invalidValue","detail":"title: not so"}`)
		return true
	})
	run := w.Run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	assert.Equal(t, map[string]string{suffix: string(problem.LoginSuffix), taken: string(problem.DuplicateLogin), refused: string(problem.ValueRefused)}, w.Problems())
	eskil := w.User("eskil.moe@brisling.example")
	require.NotNil(t, eskil, "the login waits")
	assert.Equal(t, false, eskil["active"])
	assert.Empty(t, eskil["roles"])
	assert.Equal(t, "Retired", eskil["title"], "what is not faulty does not wait")
	assert.Equal(t, []string{"pia.holmen"}, worldtest.Members(t, w.Address(), "Crew"))
	assert.Equal(t, false, w.User("pia.holmen@brisling.example")["active"])
	odd := w.User("odd.strand@brisling.example")
	assert.Equal(t, false, odd["active"])
	assert.Equal(t, "Mate", odd["title"])
	why := w.Why(suffix)
	assert.Contains(t, why.Why.Summary, "corp.brisling.example")

	b.Takes(nil)
	w.Set(suffix, "mail", "eskil.moe@brisling.example")
	w.Set(taken, "mail", "pia.holmen@brisling.example")
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	assert.Empty(t, w.Problems())
	assert.Equal(t, "Refused", w.User("odd.strand@brisling.example")["title"])
}

// TestWhoIsMadeAgainHasTheOldAccountBack deletes people and makes them again: the
// same name and login have their account back with its groups; somebody else of
// that login does not.
func TestWhoIsMadeAgainHasTheOldAccountBack(t *testing.T) {
	t.Parallel()
	for name, o := range map[string]worldtest.Options{"": {}, "deletion deactivates": {Cloud: []string{"--habits", "soft-delete"}}} {
		t.Run("the cloud "+name, func(t *testing.T) {
			t.Parallel()
			w := worldtest.NewWith(t, worldtest.TeamsLDIF, o)
			person := map[string]string{"title": "Mate", "givenName": "Sunniva", "employeeNumber": "41"}
			sunniva := w.Person("Sunniva Rud", person)
			crew := w.Group("Crew", sunniva, w.Person("Bo Ravn", nil))
			d := worldtest.WithGroups()
			w.Activate(d)
			require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
			const login = "sunniva.rud@brisling.example"
			id := w.User(login)["id"]
			remove := func() { require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(sunniva, nil))) }

			// Deleted and made again between two runs: nobody notices.
			remove()
			w.Person("Sunniva Rud", person)
			run := w.Run(wire.NewRun{})
			require.Equal(t, progress.InStep, run.State, "%+v", run)
			assert.Zero(t, run.Counts.Suspend+run.Counts.Create, "%+v", run.Counts)
			assert.Equal(t, id, w.User(login)["id"])
			assert.Contains(t, worldtest.Members(t, w.Address(), "Crew"), "sunniva.rud")

			// Suspended meanwhile.
			remove()
			require.Equal(t, 1, w.Run(wire.NewRun{}).Counts.Suspend)
			assert.Equal(t, false, w.User(login)["active"])
			w.Person("Sunniva Rud", person)
			forecast := w.Run(wire.NewRun{Purpose: purpose.Rehearsal})
			assert.Equal(t, 1, forecast.Counts.Restore, "%+v", forecast.Counts)
			run = w.Run(wire.NewRun{})
			require.Equal(t, progress.InStep, run.State, "%+v", run)
			back := w.User(login)
			assert.Equal(t, []any{id, true}, []any{back["id"], back["active"]})
			assert.Len(t, worldtest.Users(t, w.Address(), ""), 2)
			assert.Contains(t, worldtest.Members(t, w.Address(), "Crew"), "sunniva.rud")
			assert.Empty(t, w.Problems())

			// A group that is made again is the group that it was.
			group := worldtest.Resources(t, w.Address(), "Groups")["Crew"]["id"]
			require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(crew, nil)))
			w.Group("Crew", sunniva)
			require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
			assert.Equal(t, group, worldtest.Resources(t, w.Address(), "Groups")["Crew"]["id"])
			assert.Equal(t, []string{"sunniva.rud"}, worldtest.Members(t, w.Address(), "Crew"))

			// Deleted in the cloud too, once the grace time is over.
			d.Users.Leavers, d.Users.Grace = settings.Delete, "0s"
			w.Activate(d)
			remove()
			require.Equal(t, 1, w.Run(wire.NewRun{}).Counts.Delete)
			w.Run(wire.NewRun{Purpose: purpose.Full})
			w.Person("Sunniva Rud", person)
			run = w.Run(wire.NewRun{})
			require.Equal(t, progress.InStep, run.State, "%+v", run)
			if name != "" {
				assert.Equal(t, []any{id, true}, []any{w.User(login)["id"], w.User(login)["active"]})
			}
			assert.Len(t, worldtest.Users(t, w.Address(), fmt.Sprintf("userName eq %q", login)), 1)

			// Somebody else who is given the login of a leaver gets no account of
			// theirs, and the advice is one that can be followed.
			d.Users.Leavers, d.Users.Grace = settings.Suspend, "720h"
			w.Activate(d)
			remove()
			require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
			other := w.Person("Sunniva Rudi", map[string]string{"mail": login, "employeeNumber": "77", "givenName": "Sunniva"})
			require.Equal(t, progress.Problems, w.Run(wire.NewRun{}).State)
			assert.Equal(t, map[string]string{other: string(problem.LinkConflict)}, w.Problems())
			assert.Contains(t, w.Why(other).Problem.Detail, "was deleted from its directory")
			resource := fmt.Sprint(w.User(login)["id"])
			out, stderr, status := w.Kambrel("link", other, resource, "--yes")
			require.Zero(t, status, out+stderr)
			worldtest.AwaitRun(t, w.Client, func(r wire.Run) bool {
				return r.Purpose == purpose.Sync && r.Counts.Restore+r.Counts.Update > 0 && r.By == "administrator"
			})
			require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
			assert.Equal(t, []any{resource, true}, []any{w.User(login)["id"], w.User(login)["active"]})
		})
	}
}

// TestAnErrorThatNobodyHasForeseenEndsTheRun lets the cloud refuse to be read in a
// way that means nothing: the run ends, and so does the command that waits.
func TestAnErrorThatNobodyHasForeseenEndsTheRun(t *testing.T) {
	t.Parallel()
	b := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.LDIFPeople(3), worldtest.Options{Between: b})
	w.Activate(worldtest.Document())
	w.InStep(3)
	asked := 0
	b.Takes(func(answer http.ResponseWriter, r *http.Request) bool {
		if !strings.HasSuffix(r.URL.Path, "/Users") {
			return false
		}
		b.Mu.Lock()
		asked++
		b.Mu.Unlock()
		answer.WriteHeader(http.StatusTeapot)
		return true
	})
	out, stderr, status := w.Kambrel("sync")
	assert.Equal(t, 1, status, out+stderr)
	assert.Contains(t, out+stderr, problem.Describe(problem.Unforeseen).Title)
	b.Mu.Lock()
	assert.LessOrEqual(t, asked, 4)
	b.Mu.Unlock()
	health, err := w.Client.Health(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "broken", health.State)
	assert.Equal(t, string(problem.Unforeseen), health.Attention[0].Code)
	b.Takes(nil)
	w.Set(worldtest.Crew(1), "title", "Mate")
	w.InStep(1)
}

// TestANameThatCannotBeKeptStopsNobodyElse has a name with the NUL character.
func TestANameThatCannotBeKeptStopsNobodyElse(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(3)+worldtest.TeamsLDIF)
	nul := "cn=Nul\\00Person," + worldtest.People
	request := ldap.NewAddRequest(nul, nil)
	request.Attribute("objectClass", []string{"inetOrgPerson"})
	request.Attribute("cn", []string{"Nul\x00Person"})
	request.Attribute("sn", []string{"Person"})
	request.Attribute("mail", []string{"nul@brisling.example"})
	require.NoError(t, w.LDAP.Add(request))
	bo := w.Person("Bo Ravn", map[string]string{"title": "Mate", "manager": nul})
	w.Group("Crew", bo, nul)
	w.Activate(worldtest.WithGroups())
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.Problems, run.State, "%+v", run)
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 4)
	assert.Equal(t, []string{"bo.ravn"}, worldtest.Members(t, w.Address(), "Crew"))
	problems := w.Problems()
	require.Len(t, problems, 1)
	for dn, code := range problems {
		assert.Equal(t, string(problem.ValueUnusable), code)
		assert.Contains(t, strings.ToLower(dn), `nul\00person`)
	}

	// Of somebody who is there, nothing is emptied for it.
	modify := ldap.NewModifyRequest(bo, nil)
	modify.Replace("title", []string{"Ma\x00te"})
	require.NoError(t, w.LDAP.Modify(modify))
	run = w.Run(wire.NewRun{})
	require.Equal(t, progress.Problems, run.State)
	assert.Equal(t, "Mate", w.User("bo.ravn@brisling.example")["title"])
	w.Set(bo, "title", "Master")
	w.Run(wire.NewRun{})
	assert.Equal(t, "Master", w.User("bo.ravn@brisling.example")["title"])
	full := w.Run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
}

// TestACloudThatLosesMembersIsStopped lets the cloud empty each group that is
// changed, and say that all is done: the run stops at the first one.
func TestACloudThatLosesMembersIsStopped(t *testing.T) {
	t.Parallel()
	b := &worldtest.Between{}
	w := worldtest.NewWith(t, habitLDIF(), worldtest.Options{Between: b})
	w.Activate(worldtest.WithGroups())
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	whole := look(w)
	b.Takes(func(answer http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodPatch || !strings.Contains(r.URL.Path, "/Groups/") {
			return false
		}
		worldtest.Patch(t, w.Address(), strings.TrimPrefix(r.URL.Path, "/scim/v2/"), worldtest.Operation("remove", "members", nil))
		answer.WriteHeader(http.StatusNoContent)
		return true
	})
	for team := range 4 {
		w.Member(fmt.Sprintf("cn=Team %d,%s", team, worldtest.Teams), false, fmt.Sprintf("cn=Crew %02d,%s", team%3, worldtest.People))
	}
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.Failed, run.State, "%+v", run)
	assert.Equal(t, string(problem.MembersLost), run.Failure.Code)
	assert.Contains(t, run.Failure.Detail, "7 are missing")
	emptied := 0
	for team, members := range look(w).Members {
		if len(members) == 0 {
			emptied++
		} else {
			assert.Equal(t, whole.Members[team], members)
		}
	}
	assert.Equal(t, 1, emptied, "one group at most")
	b.Takes(nil)
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{Purpose: purpose.Full}).State)
	exact(w, "after the cloud was mended")
}
