package setup_test

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
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// remedy does what the problem of an entry offers, by its command.
func remedy(w *worldtest.World, dn string, kind act.Kind) {
	w.T.Helper()
	page, err := w.Client.Problems(w.T.Context(), url.Values{"about": {"entry"}})
	require.NoError(w.T, err)
	for _, p := range page.Items {
		for _, r := range p.Remedies {
			if p.DN == dn && r.Act == kind {
				out, stderr, status := w.Kambrel(append(strings.Fields(strings.TrimPrefix(r.Command, "kambrel ")), "--yes")...)
				require.Zero(w.T, status, out+stderr)
				return
			}
		}
	}
	require.Fail(w.T, "no such remedy", "%s for %s in %+v", kind, dn, page.Items)
}

func TestWhoIsNearlyTheSameIsHeldUntilSomebodyDecides(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	jon := w.InCloud("jon.sletta", nil)
	mira := w.InCloud("mira.tangen", map[string]any{"name": map[string]any{"givenName": "Mira", "familyName": "Tangen"}})
	twin := w.InCloud("eli.other", map[string]any{"displayName": "Eli Aas"})
	boss := w.InCloud("boss", map[string]any{"roles": []any{map[string]any{"type": "administrative", "value": "all"}}})
	w.InCloud("desk", nil)
	w.Person("Jon Sletta", nil)
	miraDN := w.Person("Mira Tangen", map[string]string{"mail": "mt@brisling.example", "givenName": "Mira", "displayName": "Mira Tangen"})
	eliDN := w.Person("Eli Aas", nil)
	bossDN := w.Person("Bo Ss", map[string]string{"mail": "boss@brisling.example"})
	w.Person("Ada Brekke", nil)
	w.Activate(worldtest.Document())

	assert.Equal(t, map[string]int{"adopt": 1, "create": 1, "near-miss": 2, "protected-resource": 1, "unclaimed": 4}, w.Outcomes())
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 5, "a forecast writes nothing")
	run := w.Run(wire.NewRun{})
	assert.Equal(t, 3, run.Counts.Problems)
	assert.Equal(t, map[string]string{miraDN: "near-miss", eliDN: "near-miss", bossDN: "protected-resource"}, w.Problems())
	assert.Equal(t, jon, w.User("jon.sletta@brisling.example")["id"])
	out, _, _ := w.Kambrel("problems", "list", "-o", "json")
	assert.Contains(t, out, mira, "the problem names the resource of the other side")

	why := w.Why(miraDN).Why
	assert.Equal(t, "bad", string(why.Steps[1].Outcome), "the step that matches says what holds her")
	assert.Contains(t, why.Steps[1].Value, "the same name, Mira Tangen")

	// One is the same person, one is not, and one is linked knowingly.
	out, stderr, status := w.Kambrel("link", miraDN, "mira.tangen@brisling.example")
	require.Zero(t, status, stderr)
	assert.Contains(t, out, `userName: "mira.tangen@brisling.example" -> "mt@brisling.example"`)
	assert.Contains(t, out, "Nothing was done yet")
	assert.Equal(t, "mira.tangen@brisling.example", w.User("mira.tangen@brisling.example")["userName"])
	for dn, kind := range map[string]act.Kind{miraDN: act.Link, eliDN: act.Create, bossDN: act.Link} {
		remedy(w, dn, kind)
	}
	assert.Empty(t, w.Problems())
	acts, err := w.Client.Acts(t.Context(), url.Values{"about": {"entry"}})
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
	assert.Equal(t, mira, w.User("mt@brisling.example")["id"])
	assert.NotEqual(t, twin, w.User("eli.aas@brisling.example")["id"])
	assert.Equal(t, boss, w.User("boss@brisling.example")["id"])
	w.InStep(0)
	assert.Equal(t, map[string]int{"linked": 5, "unclaimed": 2}, w.Outcomes())

	// Unlinked, she waits until it is decided again.
	out, stderr, status = w.Kambrel("unlink", miraDN, "--yes")
	require.Zero(t, status, out+stderr)
	assert.Equal(t, map[string]string{miraDN: "held-by-hand"}, w.Problems())
	assert.Nil(t, w.User("mt@brisling.example")["externalId"])
	remedy(w, miraDN, act.Rematch)
	assert.Empty(t, w.Problems())
	out, _, _ = w.Kambrel("problems", "list", "--closed")
	assert.Contains(t, out, "has unlinked it")
	assert.Contains(t, out, "the cause is gone")
	out, _, _ = w.Kambrel("acts", "--kind", "unlink")
	assert.Contains(t, out, "unlink: "+miraDN)
	assert.Contains(t, out, `"choice":"hold"`)
	assert.Equal(t, mira, w.User("mt@brisling.example")["id"], "the login fits now")

	// A double that was made by mistake is merged.
	wrong := w.User("eli.aas@brisling.example")["id"]
	out, stderr, status = w.Kambrel("link", eliDN, twin)
	assert.Equal(t, 1, status)
	assert.Contains(t, out+stderr, "Merge")
	out, stderr, status = w.Kambrel("link", eliDN, twin, "--merge", "--yes")
	require.Zero(t, status, out+stderr)
	assert.Equal(t, twin, w.User("eli.aas@brisling.example")["id"])
	status, _ = worldtest.SCIM(t, w.Address(), "GET", fmt.Sprint(w.Cloud.URL, "/Users/", wrong), nil)
	assert.Equal(t, 404, status)
	w.InStep(0)

	_, stderr, status = w.Kambrel("link", "nobody", twin)
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "nothing in the mirrors fits")
	_, stderr, status = w.Kambrel("link", miraDN, fmt.Sprint(twin), "--merge")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "belongs to "+eliDN)
}

func TestATrialTakesOneEntryTheWholeWay(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	ada, bo := w.Person("Ada Brekke", nil), w.Person("Bo Ravn", nil)
	w.Activate(worldtest.Document())
	w.InStep(2)
	w.Set(ada, "title", "Master")
	w.Set(bo, "title", "Mate")

	trial := func(arguments ...string) (wire.Run, string) {
		t.Helper()
		out, stderr, status := w.Kambrel(append(append([]string{"trial"}, arguments...), "-o", "json")...)
		require.Contains(t, []int{0, 2}, status, stderr)
		var result struct{ Run wire.Run }
		require.NoError(t, json.Unmarshal([]byte(out), &result), out)
		return result.Run, out
	}
	run, out := trial(ada)
	assert.Equal(t, 1, run.Counts.Changes, "the directory was asked just now")
	assert.Contains(t, out, "Master")
	assert.Nil(t, w.User("ada.brekke@brisling.example")["title"], "nothing is written")
	run, _ = trial(ada, "--write")
	assert.Equal(t, 1, run.Counts.Done)
	assert.Equal(t, "Master", w.User("ada.brekke@brisling.example")["title"])
	assert.Nil(t, w.User("bo.ravn@brisling.example")["title"], "nobody else is touched")

	// Somebody who was never read is fetched, for why and for a trial.
	eli := w.Person("Eli Aas", nil)
	why, stderr, status := w.Kambrel("why", "eli.aas@brisling.example")
	require.Zero(t, status, stderr)
	assert.Contains(t, why, "create the resource")
	run, _ = trial(eli, "--write")
	assert.Equal(t, 1, run.Counts.Create)
	assert.NotNil(t, w.User("eli.aas@brisling.example"))
	out, stderr, status = w.Kambrel("trial", "cn=Nobody,"+worldtest.People)
	assert.Equal(t, 1, status)
	assert.Contains(t, out+stderr, "nothing in the mirrors fits")
	w.InStep(1) // Bo's title was left for the run
}

func TestFormulasAreTriedInPlace(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	w.Person("Bjørn Ås", map[string]string{"mail": "bas@brisling.example"})
	w.Activate(worldtest.Document())
	w.InStep(1)
	out, stderr, status := w.Kambrel("formula", "try", `ascii(entry.cn).lowerAscii().replace(" ", ".")`, "--entry", "bas@brisling.example")
	require.Zero(t, status, stderr)
	assert.Contains(t, out, `"bjorn.as"`)
	assert.Contains(t, out, `entry.cn: "Bjørn Ås"`, "the value of each part is shown")
	out, _, status = w.Kambrel("formula", "try", `flag(entry.userAccountControl, 2)`, "--value", "userAccountControl=514")
	assert.Zero(t, status)
	assert.Contains(t, out, "true")
	out, _, status = w.Kambrel("formula", "try", `entry.cn + nonsense`)
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "           ^\nline 1, column 12")
	out, _, status = w.Kambrel("formula", "try", `flag(entry.cn, 2)`, "--value", "cn=Ada")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "no whole number")

	// What cannot be bounded ends, and is a problem of the entry alone.
	d := worldtest.Document()
	endless := `["a","b","c","d","e","f","g","h","i","j"].map(a, ["a","b","c","d","e","f","g","h","i","j"].map(b, ["a","b","c","d","e","f","g","h","i","j"].map(c, ["a","b","c","d","e","f","g","h","i","j"].map(d, ["a","b","c","d","e","f","g","h","i","j"].exists(e, a + b + c + d + e == entry.cn)))))`
	d.Users.Rules[6].Formula, d.Users.Rules[6].From = `size(`+endless+`) > 5 ? "x" : "y"`, ""
	w.Activate(d)
	run := w.Run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State)
	for _, code := range w.Problems() {
		assert.Equal(t, "formula-failed", code)
	}
}
