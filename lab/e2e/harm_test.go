package e2e

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
	"kambrel.example/kambrel/protocol/wire"
)

// TestWhatHangsOnAHeldRemovalIsHeldWithIt lets people vanish whom groups and
// managers still name, and then others whom the directory has taken out of the
// groups as well: nothing of it goes before somebody has decided.
func TestWhatHangsOnAHeldRemovalIsHeldWithIt(t *testing.T) {
	t.Parallel()
	w := newWorldWith(t, habitLDIF(), options{})
	d := withGroups()
	d.Guard = settings.Guard{Removals: 3, Share: 10}
	w.activate(d)
	require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	before := w.look()
	vanish := func(i int) {
		require.NoError(t, w.ldap.Del(ldap.NewDelRequest(fmt.Sprintf("cn=Crew %02d,%s", i, people), nil)))
	}
	for i := range 8 { // two managers among them
		vanish(i)
	}
	w.member("cn=Team 2,"+teams, false, "cn=Crew 02,"+people) // as a directory does that keeps its references itself
	w.set("cn=Crew 20,"+people, "title", "Mate")
	run := w.run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	assert.Equal(t, 8, run.Counts.Held, "%+v", run.Counts)
	before.Titles["crew20"] = "Mate"
	assert.Equal(t, before, w.look(), "members and managers are as they were")
	assert.NotZero(t, run.Counts.Hanging)

	for _, one := range []purpose.Purpose{purpose.Sync, purpose.Full} { // and so it stays
		again := w.run(wire.NewRun{Purpose: one})
		assert.Equal(t, 8, again.Counts.Held, "%+v", again.Counts)
		assert.Equal(t, run.Counts.Hanging, again.Counts.Hanging)
		assert.Equal(t, before, w.look())
		run = again
	}
	group := w.why("Team 2")
	trial, err := w.client.Try(t.Context(), wire.NewTrial{Text: group.Entry.ID.String(), Write: true})
	require.NoError(t, err)
	w.wait(trial.RunID)
	assert.Equal(t, before, w.look(), "a trial of one group takes nothing either")

	out, _, _ := w.kambrel("health")
	assert.Contains(t, out, "holds 8, and with them", out)
	changes, err := w.client.Changes(t.Context(), run.ID, map[string][]string{"state": {"held"}, "kind": {"group"}})
	require.NoError(t, err)
	assert.NotEmpty(t, changes.Items, "the run tells what hangs on them")

	released, err := w.client.Release(t.Context(), run.ID)
	require.NoError(t, err)
	require.Equal(t, progress.InStep, w.wait(released.ID).State)
	after := w.look()
	for team, members := range after.Members {
		for i := range 8 {
			assert.NotContains(t, members, fmt.Sprintf("crew%02d", i), team)
		}
	}
	assert.Empty(t, after.Managers["crew08"], "who has gone is nobody's manager any more")
	full := w.run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, full.Counts.Changes+full.Counts.Held, "%+v", full.Counts)
}

// TestAccessIsTakenAwayWhateverElseIsWrong disables people of whom another value
// cannot be sent, by the plan or by the cloud's word.
func TestAccessIsTakenAwayWhateverElseIsWrong(t *testing.T) {
	t.Parallel()
	b := &between{}
	w := newWorldWith(t, teamsLDIF, options{between: b})
	suffix, taken, refused := w.person("Eskil Moe", map[string]string{"title": "Mate"}), w.person("Pia Holmen", nil), w.person("Odd Strand", map[string]string{"title": "Mate"})
	w.person("Runa Strand", nil)
	crew := w.group("Crew", suffix, taken)
	d := withGroups()
	for i := range d.Users.Rules {
		if d.Users.Rules[i].Target == "active" {
			d.Users.Rules[i] = settings.Rule{Target: "active", Formula: `entry.employeeType != "ended"`}
		}
	}
	d.Users.Rules = append(d.Users.Rules, settings.Rule{Target: "roles", Granted: []settings.Grant{{Group: crew, Value: "bridge"}}})
	w.activate(d)
	require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	require.NotEmpty(t, w.user("eskil.moe@brisling.example")["roles"])

	for _, dn := range []string{suffix, taken, refused} {
		w.set(dn, "employeeType", "ended")
	}
	w.member(crew, false, suffix)
	w.set(suffix, "mail", "eskil.moe@corp.brisling.example") // a domain that is not verified
	w.set(suffix, "title", "Retired")
	w.set(taken, "mail", "runa.strand@brisling.example")
	w.set(refused, "title", "Refused")
	b.takes(func(answer http.ResponseWriter, r *http.Request) bool {
		body := bodyOf(r)
		if r.Method == http.MethodGet || !strings.Contains(body, "Refused") {
			return false
		}
		answer.Header().Set("Content-Type", "application/scim+json")
		answer.WriteHeader(http.StatusBadRequest)
		fmt.Fprint(answer, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:Error"],"status":"400","scimType":"invalidValue","detail":"title: not so"}`)
		return true
	})
	run := w.run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	assert.Equal(t, map[string]string{suffix: string(problem.LoginSuffix), taken: string(problem.DuplicateLogin), refused: string(problem.ValueRefused)}, w.problems())
	eskil := w.user("eskil.moe@brisling.example")
	require.NotNil(t, eskil, "the login waits")
	assert.Equal(t, false, eskil["active"])
	assert.Empty(t, eskil["roles"])
	assert.Equal(t, "Retired", eskil["title"], "what is not faulty does not wait")
	assert.Equal(t, []string{"pia.holmen"}, members(t, w.address(), "Crew"))
	assert.Equal(t, false, w.user("pia.holmen@brisling.example")["active"])
	odd := w.user("odd.strand@brisling.example")
	assert.Equal(t, false, odd["active"])
	assert.Equal(t, "Mate", odd["title"])
	why := w.why(suffix)
	assert.Contains(t, why.Why.Summary, "corp.brisling.example")

	b.takes(nil)
	w.set(suffix, "mail", "eskil.moe@brisling.example")
	w.set(taken, "mail", "pia.holmen@brisling.example")
	require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	assert.Empty(t, w.problems())
	assert.Equal(t, "Refused", w.user("odd.strand@brisling.example")["title"])
}

// TestWhoIsMadeAgainHasTheOldAccountBack deletes people and makes them again: the
// same name and login have their account back with its groups; somebody else of
// that login does not.
func TestWhoIsMadeAgainHasTheOldAccountBack(t *testing.T) {
	t.Parallel()
	for name, o := range map[string]options{"": {}, "deletion deactivates": {cloud: []string{"--habits", "soft-delete"}}} {
		t.Run("the cloud "+name, func(t *testing.T) {
			t.Parallel()
			w := newWorldWith(t, teamsLDIF, o)
			person := map[string]string{"title": "Mate", "givenName": "Sunniva", "employeeNumber": "41"}
			sunniva := w.person("Sunniva Rud", person)
			crew := w.group("Crew", sunniva, w.person("Bo Ravn", nil))
			d := withGroups()
			w.activate(d)
			require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
			const login = "sunniva.rud@brisling.example"
			id := w.user(login)["id"]
			remove := func() { require.NoError(t, w.ldap.Del(ldap.NewDelRequest(sunniva, nil))) }

			// Deleted and made again between two runs: nobody notices.
			remove()
			w.person("Sunniva Rud", person)
			run := w.run(wire.NewRun{})
			require.Equal(t, progress.InStep, run.State, "%+v", run)
			assert.Zero(t, run.Counts.Suspend+run.Counts.Create, "%+v", run.Counts)
			assert.Equal(t, id, w.user(login)["id"])
			assert.Contains(t, members(t, w.address(), "Crew"), "sunniva.rud")

			// Suspended meanwhile.
			remove()
			require.Equal(t, 1, w.run(wire.NewRun{}).Counts.Suspend)
			assert.Equal(t, false, w.user(login)["active"])
			w.person("Sunniva Rud", person)
			forecast := w.run(wire.NewRun{Purpose: purpose.Rehearsal})
			assert.Equal(t, 1, forecast.Counts.Restore, "%+v", forecast.Counts)
			run = w.run(wire.NewRun{})
			require.Equal(t, progress.InStep, run.State, "%+v", run)
			back := w.user(login)
			assert.Equal(t, []any{id, true}, []any{back["id"], back["active"]})
			assert.Len(t, users(t, w.address(), ""), 2)
			assert.Contains(t, members(t, w.address(), "Crew"), "sunniva.rud")
			assert.Empty(t, w.problems())

			// A group that is made again is the group that it was.
			group := resources(t, w.address(), "Groups")["Crew"]["id"]
			require.NoError(t, w.ldap.Del(ldap.NewDelRequest(crew, nil)))
			w.group("Crew", sunniva)
			require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
			assert.Equal(t, group, resources(t, w.address(), "Groups")["Crew"]["id"])
			assert.Equal(t, []string{"sunniva.rud"}, members(t, w.address(), "Crew"))

			// Deleted in the cloud too, once the grace time is over.
			d.Users.Leavers, d.Users.Grace = settings.Delete, "0s"
			w.activate(d)
			remove()
			require.Equal(t, 1, w.run(wire.NewRun{}).Counts.Delete)
			w.run(wire.NewRun{Purpose: purpose.Full})
			w.person("Sunniva Rud", person)
			run = w.run(wire.NewRun{})
			require.Equal(t, progress.InStep, run.State, "%+v", run)
			if name != "" {
				assert.Equal(t, []any{id, true}, []any{w.user(login)["id"], w.user(login)["active"]})
			}
			assert.Len(t, users(t, w.address(), fmt.Sprintf("userName eq %q", login)), 1)

			// Somebody else who is given the login of a leaver gets no account of
			// theirs, and the advice is one that can be followed.
			d.Users.Leavers, d.Users.Grace = settings.Suspend, "720h"
			w.activate(d)
			remove()
			require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
			other := w.person("Sunniva Rudi", map[string]string{"mail": login, "employeeNumber": "77", "givenName": "Sunniva"})
			require.Equal(t, progress.Problems, w.run(wire.NewRun{}).State)
			assert.Equal(t, map[string]string{other: string(problem.LinkConflict)}, w.problems())
			assert.Contains(t, w.why(other).Problem.Detail, "was deleted from its directory")
			resource := fmt.Sprint(w.user(login)["id"])
			out, stderr, status := w.kambrel("link", other, resource, "--yes")
			require.Zero(t, status, out+stderr)
			awaitRun(t, w.client, func(r wire.Run) bool {
				return r.Purpose == purpose.Sync && r.Counts.Restore+r.Counts.Update > 0 && r.By == "administrator"
			})
			require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
			assert.Equal(t, []any{resource, true}, []any{w.user(login)["id"], w.user(login)["active"]})
		})
	}
}

// TestAnErrorThatNobodyHasForeseenEndsTheRun lets the cloud refuse to be read in a
// way that means nothing: the run ends, and so does the command that waits.
func TestAnErrorThatNobodyHasForeseenEndsTheRun(t *testing.T) {
	t.Parallel()
	b := &between{}
	w := newWorldWith(t, ldifPeople(3), options{between: b})
	w.activate(document())
	w.inStep(3)
	asked := 0
	b.takes(func(answer http.ResponseWriter, r *http.Request) bool {
		if !strings.HasSuffix(r.URL.Path, "/Users") {
			return false
		}
		b.mu.Lock()
		asked++
		b.mu.Unlock()
		answer.WriteHeader(http.StatusTeapot)
		return true
	})
	out, stderr, status := w.kambrel("sync")
	assert.Equal(t, 1, status, out+stderr)
	assert.Contains(t, out+stderr, problem.Describe(problem.Unforeseen).Title)
	b.mu.Lock()
	assert.LessOrEqual(t, asked, 4)
	b.mu.Unlock()
	health, err := w.client.Health(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "broken", health.State)
	assert.Equal(t, string(problem.Unforeseen), health.Attention[0].Code)
	b.takes(nil)
	w.set("cn=Crew 00001,"+people, "title", "Mate")
	w.inStep(1)
}

// TestANameThatCannotBeKeptStopsNobodyElse has a name with the NUL character.
func TestANameThatCannotBeKeptStopsNobodyElse(t *testing.T) {
	t.Parallel()
	w := newWorld(t, ldifPeople(3)+teamsLDIF)
	nul := "cn=Nul\\00Person," + people
	request := ldap.NewAddRequest(nul, nil)
	request.Attribute("objectClass", []string{"inetOrgPerson"})
	request.Attribute("cn", []string{"Nul\x00Person"})
	request.Attribute("sn", []string{"Person"})
	request.Attribute("mail", []string{"nul@brisling.example"})
	require.NoError(t, w.ldap.Add(request))
	bo := w.person("Bo Ravn", map[string]string{"title": "Mate", "manager": nul})
	w.group("Crew", bo, nul)
	w.activate(withGroups())
	run := w.run(wire.NewRun{})
	require.Equal(t, progress.Problems, run.State, "%+v", run)
	assert.Len(t, users(t, w.address(), ""), 4)
	assert.Equal(t, []string{"bo.ravn"}, members(t, w.address(), "Crew"))
	problems := w.problems()
	require.Len(t, problems, 1)
	for dn, code := range problems {
		assert.Equal(t, string(problem.ValueUnusable), code)
		assert.Contains(t, strings.ToLower(dn), `nul\00person`)
	}

	// Of somebody who is there, nothing is emptied for it.
	modify := ldap.NewModifyRequest(bo, nil)
	modify.Replace("title", []string{"Ma\x00te"})
	require.NoError(t, w.ldap.Modify(modify))
	run = w.run(wire.NewRun{})
	require.Equal(t, progress.Problems, run.State)
	assert.Equal(t, "Mate", w.user("bo.ravn@brisling.example")["title"])
	w.set(bo, "title", "Master")
	w.run(wire.NewRun{})
	assert.Equal(t, "Master", w.user("bo.ravn@brisling.example")["title"])
	full := w.run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
}

// TestACloudThatLosesMembersIsStopped lets the cloud empty each group that is
// changed, and say that all is done: the run stops at the first one.
func TestACloudThatLosesMembersIsStopped(t *testing.T) {
	t.Parallel()
	b := &between{}
	w := newWorldWith(t, habitLDIF(), options{between: b})
	w.activate(withGroups())
	require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	whole := w.look()
	b.takes(func(answer http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodPatch || !strings.Contains(r.URL.Path, "/Groups/") {
			return false
		}
		status, _ := scim(t, w.address(), "PATCH", strings.Replace(w.cloud.URL, "/scim/v2", r.URL.Path, 1), map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"},
			"Operations": []any{map[string]any{"op": "remove", "path": "members"}}})
		assert.Equal(t, 200, status)
		answer.WriteHeader(http.StatusNoContent)
		return true
	})
	for team := range 4 {
		w.member(fmt.Sprintf("cn=Team %d,%s", team, teams), false, fmt.Sprintf("cn=Crew %02d,%s", team%3, people))
	}
	run := w.run(wire.NewRun{})
	require.Equal(t, progress.Failed, run.State, "%+v", run)
	assert.Equal(t, string(problem.MembersLost), run.Failure.Code)
	assert.Contains(t, run.Failure.Detail, "7 are missing")
	emptied := 0
	for team, members := range w.look().Members {
		if len(members) == 0 {
			emptied++
		} else {
			assert.Equal(t, whole.Members[team], members)
		}
	}
	assert.Equal(t, 1, emptied, "one group at most")
	b.takes(nil)
	require.Equal(t, progress.InStep, w.run(wire.NewRun{Purpose: purpose.Full}).State)
	w.exact("after the cloud was mended")
}
