package setup_test

import (
	"bytes"
	"encoding/csv"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// mayRepair lets the agent's account write addresses in the people's container,
// but not of one of them.
const mayRepair = `access to dn.exact="cn=Locked Lars,ou=People,dc=brisling,dc=example" attrs=mail,displayName by dn.exact="uid=svc-kambrel,ou=Service Accounts,dc=brisling,dc=example" read by * break
access to dn.subtree="ou=People,dc=brisling,dc=example" attrs=mail,displayName by dn.exact="uid=svc-kambrel,ou=Service Accounts,dc=brisling,dc=example" write by * break`

func survey(w *worldtest.World) wire.Survey {
	w.T.Helper()
	run, err := w.Client.StartSurvey(w.T.Context(), wire.NewSurvey{})
	require.NoError(w.T, err)
	ended := w.Wait(run.ID)
	require.Nil(w.T, ended.Failure)
	s, err := w.Client.Survey(w.T.Context(), run.ID)
	require.NoError(w.T, err)
	return s
}

// TestSurveyRepairUndo goes from findings to repairs, by the proposals and by an
// edited CSV, and back.
func TestSurveyRepairUndo(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, "", worldtest.Options{Access: mayRepair})
	named := func(name, mail string) string {
		return w.Person(name, map[string]string{"mail": mail, "displayName": name})
	}
	late := named("Late Liv", "liv@corp.brisling.example")
	named("Spaced Siv", "siv tollaksen@brisling.example")
	locked := named("Locked Lars", "lars@old.brisling.example")
	named("Twin A", "twin@brisling.example")
	named("Twin B", "TWIN@brisling.example")
	nameless := w.Person("Nameless Nils", map[string]string{"givenName": "Nils"})
	status, _ := worldtest.SCIM(t, w.Address(), "POST", w.Cloud.URL+"/Users", map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}, "userName": "boss@brisling.example", "roles": []any{map[string]any{"type": "administrative", "value": "owner"}}})
	require.Equal(t, 201, status)
	named("The Boss", "boss@brisling.example")
	w.Activate(worldtest.Document())

	first := survey(w)
	assert.Equal(t, map[string]int{"suffix-not-verified": 2, "login-malformed": 1, "address-malformed": 1, "login-twice": 2, "address-twice": 2, "display-name-blank": 1, "collides-with-resource": 1}, worldtest.FindingsByCode(first))
	assert.Empty(t, worldtest.Users(t, w.Address(), "externalId pr"), "a survey writes nothing")
	verified := map[string]bool{}
	for _, domain := range first.Domains {
		verified[domain.Name] = *domain.Verified
	}
	assert.Equal(t, map[string]bool{"brisling.example": true, "corp.brisling.example": false, "old.brisling.example": false}, verified)

	// The feature must be switched on before anything is written.
	_, stderr, exit := w.Kambrel("survey", "repair", "--kind", "suffix-not-verified", "--yes")
	assert.Equal(t, 1, exit)
	assert.Contains(t, stderr, "repair is not switched on")
	d := worldtest.Document()
	d.Directories[0].Features = []entry.Feature{entry.FeatureRepair}
	w.Activate(d)
	out, _, exit := w.Kambrel("survey", "repair", "--kind", "suffix-not-verified", "--dry-run")
	assert.Zero(t, exit)
	assert.Contains(t, out, "liv@brisling.example")
	assert.Equal(t, "liv@corp.brisling.example", w.Value(late, "mail"))
	out, stderr, exit = w.Kambrel("survey", "repair", "--kind", "suffix-not-verified", "--yes")
	assert.Equal(t, 2, exit, "%s%s", out, stderr)
	assert.Equal(t, "liv@brisling.example", w.Value(late, "mail"), "one that is refused does not stop the rest")
	assert.Equal(t, "lars@old.brisling.example", w.Value(locked, "mail"))
	assert.Contains(t, out, "Insufficient Access Rights", "with the server's own reason")

	// CSV out, edited, and back in: wrong lines are all told, and nothing is done.
	edited := filepath.Join(t.TempDir(), "findings.csv")
	exported, _, exit := w.Kambrel("survey", "export")
	require.Zero(t, exit)
	rows, err := csv.NewReader(strings.NewReader(exported)).ReadAll()
	require.NoError(t, err)
	write := func(change func(row map[string]*string)) {
		var text bytes.Buffer
		writer := csv.NewWriter(&text)
		for i, row := range rows {
			row = append([]string{}, row...)
			cells := map[string]*string{}
			for j, name := range rows[0] {
				cells[name] = &row[j]
			}
			if i > 0 {
				*cells["action"] = "none"
				change(cells)
			}
			require.NoError(t, writer.Write(row))
		}
		writer.Flush()
		require.NoError(t, os.WriteFile(edited, text.Bytes(), 0o600))
	}
	write(func(row map[string]*string) {
		switch *row["code"] {
		case "display-name-blank":
			*row["action"] = "delete"
		case "login-malformed":
			*row["action"], *row["value"] = "set", "somebody else"
		}
	})
	_, stderr, exit = w.Kambrel("survey", "repair", "--csv", edited, "--yes")
	assert.Equal(t, 1, exit)
	assert.Contains(t, stderr, "write set, remove or none")
	assert.Contains(t, stderr, "no finding for mail")
	assert.Contains(t, stderr, "nothing of it was applied")
	assert.Regexp(t, `line \d+: `, stderr)
	assert.Empty(t, w.Value(nameless, "displayName"))
	write(func(row map[string]*string) {
		if *row["code"] == "display-name-blank" {
			*row["action"], *row["proposal"] = "set", "Nils, with no name"
		}
	})
	_, stderr, exit = w.Kambrel("survey", "repair", "--csv", edited, "--yes")
	assert.Zero(t, exit, stderr)
	assert.Equal(t, "Nils, with no name", w.Value(nameless, "displayName"))

	second := survey(w)
	assert.Equal(t, 1, worldtest.FindingsByCode(second)["suffix-not-verified"], "what was repaired is gone, what was refused is not")
	assert.Zero(t, worldtest.FindingsByCode(second)["display-name-blank"])

	// A value that somebody changed meanwhile is not overwritten.
	chosen, err := w.Client.ChooseRepairs(t.Context(), second.Run.ID, wire.ChooseRepairs{Code: "login-malformed"})
	require.NoError(t, err)
	require.Len(t, chosen.Items, 1)
	w.Set(chosen.Items[0].DN, "mail", "siv@brisling.example")
	repair, err := w.Client.Repair(t.Context(), wire.NewRepair{Items: chosen.Items})
	require.NoError(t, err)
	done, err := w.Client.WaitRepair(t.Context(), repair.ID, nil)
	require.NoError(t, err)
	require.Equal(t, 1, done.Failed)
	assert.Equal(t, "value-changed", done.Items[0].Code)
	assert.Equal(t, "siv@brisling.example", w.Value(chosen.Items[0].DN, "mail"))

	// What a survey would find again is not written; all of it is told, and nothing done.
	wrong := chosen.Items[0]
	wrong.Before, wrong.After = "siv@brisling.example", "not an address"
	_, err = w.Client.Repair(t.Context(), wire.NewRepair{Items: []wire.RepairItem{wrong}})
	require.ErrorContains(t, err, `"not an address" is no address`)
	assert.Equal(t, "siv@brisling.example", w.Value(wrong.DN, "mail"))

	// Undo brings the old values back, once somebody has said so.
	_, stderr, exit = w.Kambrel("survey", "undo", "1")
	assert.Equal(t, 1, exit)
	assert.Contains(t, stderr, "liv@corp.brisling.example")
	assert.Contains(t, stderr, "--yes")
	_, stderr, exit = w.Kambrel("survey", "undo", "1", "--yes")
	assert.Zero(t, exit, stderr)
	assert.Equal(t, "liv@corp.brisling.example", w.Value(late, "mail"))
	assert.Contains(t, w.Dump(), "liv@corp.brisling.example", "each value has its line in the audit")
	_, stderr, exit = w.Kambrel("survey", "undo", "3", "--yes")
	assert.Equal(t, 1, exit)
	assert.Contains(t, stderr, "written nothing that could be undone")

	// A pattern makes values too, which are checked like any other.
	out, stderr, exit = w.Kambrel("survey", "repair", "--kind", "address-malformed", "--replace-suffix", "@brisling.example=@halvard.example", "--dry-run")
	assert.Zero(t, exit, stderr)
	assert.Contains(t, out, "siv tollaksen@halvard.example")
	_, stderr, exit = w.Kambrel("survey", "repair", "--kind", "address-malformed", "--replace-suffix", "@brisling.example=@halvard.example", "--yes")
	assert.Equal(t, 1, exit)
	assert.Contains(t, stderr, `"siv tollaksen@halvard.example" is no address`)

	// With no agent, every value has its reason, and nothing is lost.
	require.NoError(t, w.Agent.Stop())
	_, stderr, exit = w.Kambrel("survey", "repair", "--kind", "address-malformed", "--yes")
	assert.Equal(t, 2, exit, stderr)
	repairs, err := w.Client.Repairs(t.Context())
	require.NoError(t, err)
	failed, err := w.Client.RepairOf(t.Context(), repairs[0].ID)
	require.NoError(t, err)
	assert.Equal(t, "agent-offline", failed.Items[0].Code)

	// A service that is killed in the middle leaves no value waiting.
	hits, err := w.Client.Find(t.Context(), url.Values{"text": {late}})
	require.NoError(t, err)
	require.Len(t, hits.Items, 1)
	repair, err = w.Client.Repair(t.Context(), wire.NewRepair{Items: []wire.RepairItem{{Directory: "brisling", EntryID: hits.Items[0].EntryID, Attribute: "displayName", Before: "Late Liv", After: "Liv"}}})
	require.NoError(t, err)
	w.Service.Kill()
	<-w.Service.Ended()
	w.StartService()
	w.StartAgent()
	done, err = w.Client.WaitRepair(t.Context(), repair.ID, nil)
	require.NoError(t, err)
	assert.Equal(t, 1, done.Done, "%+v", done.Items)
	assert.Equal(t, "Liv", w.Value(late, "displayName"))
}
