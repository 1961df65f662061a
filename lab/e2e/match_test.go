package e2e

import (
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/protocol/wire"
)

// inCloud makes a user in the cloud, as somebody did before Kambrel came.
func (w *world) inCloud(login string, more map[string]any) string {
	w.t.Helper()
	body := map[string]any{"userName": login + "@brisling.example"}
	for name, value := range more {
		body[name] = value
	}
	status, made := scim(w.t, w.address(), "POST", w.cloud.URL+"/Users", body)
	require.Equal(w.t, 201, status, made)
	return fmt.Sprint(made["id"])
}

func (w *world) problems() map[string]string {
	w.t.Helper()
	page, err := w.client.Problems(w.t.Context(), url.Values{"about": {"entry"}})
	require.NoError(w.t, err)
	out := map[string]string{}
	for _, p := range page.Items {
		out[p.DN] = p.Code
	}
	return out
}

// remedy does what the problem of an entry offers, by its command.
func (w *world) remedy(dn string, kind act.Kind) {
	w.t.Helper()
	page, err := w.client.Problems(w.t.Context(), url.Values{"about": {"entry"}})
	require.NoError(w.t, err)
	for _, p := range page.Items {
		for _, r := range p.Remedies {
			if p.DN == dn && r.Act == kind {
				out, stderr, status := w.kambrel(append(strings.Fields(strings.TrimPrefix(r.Command, "kambrel ")), "--yes")...)
				require.Zero(w.t, status, out+stderr)
				return
			}
		}
	}
	require.Fail(w.t, "no such remedy", "%s for %s in %+v", kind, dn, page.Items)
}

func (w *world) outcomes() map[string]int {
	w.t.Helper()
	out, stderr, status := w.kambrel("forecast", "-o", "json")
	require.Contains(w.t, []int{0, 2}, status, stderr)
	var forecast wire.Forecast
	require.NoError(w.t, json.Unmarshal([]byte(out), &forecast), out)
	counts := map[string]int{}
	for _, o := range forecast.Outcomes {
		if o.Kind == "user" {
			counts[o.Outcome] += o.Count
		}
	}
	return counts
}

func TestWhoIsNearlyTheSameIsHeldUntilSomebodyDecides(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "")
	jon := w.inCloud("jon.sletta", nil)
	mira := w.inCloud("mira.tangen", map[string]any{"name": map[string]any{"givenName": "Mira", "familyName": "Tangen"}})
	twin := w.inCloud("eli.other", map[string]any{"displayName": "Eli Aas"})
	boss := w.inCloud("boss", map[string]any{"roles": []any{map[string]any{"type": "administrative", "value": "all"}}})
	w.inCloud("desk", nil)
	w.person("Jon Sletta", nil)
	miraDN := w.person("Mira Tangen", map[string]string{"mail": "mt@brisling.example", "givenName": "Mira", "displayName": "Mira Tangen"})
	eliDN := w.person("Eli Aas", nil)
	bossDN := w.person("Bo Ss", map[string]string{"mail": "boss@brisling.example"})
	w.person("Ada Brekke", nil)
	w.activate(document())

	assert.Equal(t, map[string]int{"adopt": 1, "create": 1, "near-miss": 2, "protected-resource": 1, "unclaimed": 4}, w.outcomes())
	assert.Len(t, users(t, w.address(), ""), 5, "a forecast writes nothing")
	run := w.run(wire.NewRun{})
	assert.Equal(t, 3, run.Counts.Problems)
	assert.Equal(t, map[string]string{miraDN: "near-miss", eliDN: "near-miss", bossDN: "protected-resource"}, w.problems())
	assert.Equal(t, jon, w.user("jon.sletta@brisling.example")["id"])
	out, _, _ := w.kambrel("problems", "-o", "json")
	assert.Contains(t, out, mira, "the problem names the resource of the other side")

	why := w.why(miraDN).Why
	assert.Equal(t, "bad", string(why.Steps[1].Outcome), "the step that matches says what holds her")
	assert.Contains(t, why.Steps[1].Value, "the same name, Mira Tangen")

	// One is the same person, one is not, and one is linked knowingly.
	out, stderr, status := w.kambrel("link", miraDN, "mira.tangen@brisling.example")
	require.Zero(t, status, stderr)
	assert.Contains(t, out, `userName: "mira.tangen@brisling.example" -> "mt@brisling.example"`)
	assert.Contains(t, out, "Nothing was done yet")
	assert.Equal(t, "mira.tangen@brisling.example", w.user("mira.tangen@brisling.example")["userName"])
	for dn, kind := range map[string]act.Kind{miraDN: act.Link, eliDN: act.Create, bossDN: act.Link} {
		w.remedy(dn, kind)
	}
	assert.Empty(t, w.problems())
	acts, err := w.client.Acts(t.Context(), url.Values{"about": {"entry"}})
	require.NoError(t, err)
	require.Len(t, acts.Items, 3)
	for _, a := range acts.Items {
		if a.Name == miraDN {
			assert.Equal(t, act.Link, a.Kind)
			assert.Equal(t, act.Unlink, a.Undo)
			assert.JSONEq(t, "{}", string(a.Before))
			assert.JSONEq(t, fmt.Sprintf(`{"resourceId": %q, "choice": "link", "by": %q}`, mira, a.By), string(a.After))
		}
	}
	assert.Equal(t, mira, w.user("mt@brisling.example")["id"])
	assert.NotEqual(t, twin, w.user("eli.aas@brisling.example")["id"])
	assert.Equal(t, boss, w.user("boss@brisling.example")["id"])
	w.inStep(0)
	assert.Equal(t, map[string]int{"linked": 5, "unclaimed": 2}, w.outcomes())

	// Unlinked, she waits until it is decided again.
	out, stderr, status = w.kambrel("unlink", miraDN, "--yes")
	require.Zero(t, status, out+stderr)
	assert.Equal(t, map[string]string{miraDN: "held-by-hand"}, w.problems())
	assert.Nil(t, w.user("mt@brisling.example")["externalId"])
	w.remedy(miraDN, act.Rematch)
	assert.Empty(t, w.problems())
	out, _, _ = w.kambrel("problems", "--closed")
	assert.Contains(t, out, "has unlinked it")
	assert.Contains(t, out, "the cause is gone")
	out, _, _ = w.kambrel("acts", "--kind", "unlink")
	assert.Contains(t, out, "unlink: "+miraDN)
	assert.Contains(t, out, `"choice":"hold"`)
	assert.Equal(t, mira, w.user("mt@brisling.example")["id"], "the login fits now")

	// A double that was made by mistake is merged.
	wrong := w.user("eli.aas@brisling.example")["id"]
	out, stderr, status = w.kambrel("link", eliDN, twin)
	assert.Equal(t, 1, status)
	assert.Contains(t, out+stderr, "Merge")
	out, stderr, status = w.kambrel("link", eliDN, twin, "--merge", "--yes")
	require.Zero(t, status, out+stderr)
	assert.Equal(t, twin, w.user("eli.aas@brisling.example")["id"])
	status, _ = scim(t, w.address(), "GET", fmt.Sprint(w.cloud.URL, "/Users/", wrong), nil)
	assert.Equal(t, 404, status)
	w.inStep(0)

	_, stderr, status = w.kambrel("link", "nobody", twin)
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "nothing in the mirrors fits")
	_, stderr, status = w.kambrel("link", miraDN, fmt.Sprint(twin), "--merge")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "belongs to "+eliDN)
}

func TestATrialTakesOneEntryTheWholeWay(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "")
	ada, bo := w.person("Ada Brekke", nil), w.person("Bo Ravn", nil)
	w.activate(document())
	w.inStep(2)
	w.set(ada, "title", "Master")
	w.set(bo, "title", "Mate")

	trial := func(arguments ...string) (wire.Run, string) {
		t.Helper()
		out, stderr, status := w.kambrel(append(append([]string{"trial"}, arguments...), "-o", "json")...)
		require.Contains(t, []int{0, 2}, status, stderr)
		var result struct{ Run wire.Run }
		require.NoError(t, json.Unmarshal([]byte(out), &result), out)
		return result.Run, out
	}
	run, out := trial(ada)
	assert.Equal(t, 1, run.Counts.Changes, "the directory was asked just now")
	assert.Contains(t, out, "Master")
	assert.Nil(t, w.user("ada.brekke@brisling.example")["title"], "nothing is written")
	run, _ = trial(ada, "--write")
	assert.Equal(t, 1, run.Counts.Done)
	assert.Equal(t, "Master", w.user("ada.brekke@brisling.example")["title"])
	assert.Nil(t, w.user("bo.ravn@brisling.example")["title"], "nobody else is touched")

	// Somebody who was never read is fetched, for why and for a trial.
	eli := w.person("Eli Aas", nil)
	why, stderr, status := w.kambrel("why", "eli.aas@brisling.example")
	require.Zero(t, status, stderr)
	assert.Contains(t, why, "create the resource")
	run, _ = trial(eli, "--write")
	assert.Equal(t, 1, run.Counts.Create)
	assert.NotNil(t, w.user("eli.aas@brisling.example"))
	out, stderr, status = w.kambrel("trial", "cn=Nobody,"+people)
	assert.Equal(t, 1, status)
	assert.Contains(t, out+stderr, "nothing in the mirrors fits")
	w.inStep(1) // Bo's title was left for the run
}

func TestFormulasAreTriedInPlace(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "")
	w.person("Bjørn Ås", map[string]string{"mail": "bas@brisling.example"})
	w.activate(document())
	w.inStep(1)
	out, stderr, status := w.kambrel("formula", "try", `ascii(entry.cn).lowerAscii().replace(" ", ".")`, "--entry", "bas@brisling.example")
	require.Zero(t, status, stderr)
	assert.Contains(t, out, `"bjorn.as"`)
	assert.Contains(t, out, `entry.cn: "Bjørn Ås"`, "the value of each part is shown")
	out, _, status = w.kambrel("formula", "try", `flag(entry.userAccountControl, 2)`, "--value", "userAccountControl=514")
	assert.Zero(t, status)
	assert.Contains(t, out, "true")
	out, _, status = w.kambrel("formula", "try", `entry.cn + nonsense`)
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "           ^\nline 1, column 12")
	out, _, status = w.kambrel("formula", "try", `flag(entry.cn, 2)`, "--value", "cn=Ada")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "no whole number")

	// What cannot be bounded ends, and is a problem of the entry alone.
	d := document()
	endless := `["a","b","c","d","e","f","g","h","i","j"].map(a, ["a","b","c","d","e","f","g","h","i","j"].map(b, ["a","b","c","d","e","f","g","h","i","j"].map(c, ["a","b","c","d","e","f","g","h","i","j"].map(d, ["a","b","c","d","e","f","g","h","i","j"].exists(e, a + b + c + d + e == entry.cn)))))`
	d.Users.Rules[6].Formula, d.Users.Rules[6].From = `size(`+endless+`) > 5 ? "x" : "y"`, ""
	w.activate(d)
	run := w.run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	for _, code := range w.problems() {
		assert.Equal(t, "formula-failed", code)
	}
}
