package setup_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
)

// TestWhatSettingsAskInVainIsTold checks filters that nobody fits, by attributes that
// nobody has and rules that nobody knows, and targets that the cloud does not have, also
// while the cloud is away.
func TestWhatSettingsAskInVainIsTold(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(3))
	d := worldtest.Document()
	d.Users.Filter = "(!(employeeType=external))"
	w.Activate(d)
	w.InStep(3)
	file := filepath.Join(t.TempDir(), "settings.yaml")
	check := func(change func(*settings.Document)) (string, int) {
		d := worldtest.Document()
		change(&d)
		text, err := d.YAML()
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, text, 0o600))
		out, _, status := w.Kambrel("settings", "check", file)
		return out, status
	}
	out, status := check(func(d *settings.Document) { d.Users.Filter = "(!(employeeType=external))" })
	assert.Zero(t, status, "it can be meant")
	assert.Contains(t, out, "no user of brisling has employeeType, so, with '!', it lets everybody in by that")
	out, status = check(func(d *settings.Document) { d.Users.Filter = "(title:1.2.3.4:=Hand)" })
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "the matching rule 1.2.3.4 is not known")
	w.Refuses([]string{"find", "(title:1.2.3.4:=Hand)"}, "matching rule 1.2.3.4")
	out, status = check(func(d *settings.Document) {
		d.Directories[0].Dialect = entry.AD
		d.Users.Filter = "(lastLogon>=1)"
	})
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "lastLogon is not replicated")

	// The draft tells the same.
	_, err := w.Client.EditDraft(t.Context(), func(d *settings.Document) error {
		d.Users.Filter = "(employeeType=external)"
		return nil
	})
	require.NoError(t, err)
	w.Says([]string{"settings", "draft"}, "no user of brisling has employeeType, so it keeps nobody by that")

	nowhere := func(d *settings.Document) {
		d.Users.Rules = append(d.Users.Rules, settings.Rule{Target: "nosuch", Always: "x"})
	}
	for _, away := range []bool{false, true} {
		if away {
			require.NoError(t, w.Cloud.Stop())
			require.NoError(t, w.Service.Stop())
			w.StartService()
		}
		out, status = check(nowhere)
		assert.Equal(t, 1, status, "away: %v", away)
		assert.Contains(t, out, "nosuch", "away: %v", away)
	}
	require.NoError(t, w.Service.Stop())
	out, status = check(nowhere)
	assert.Zero(t, status)
	assert.Contains(t, out, "Checked by the file alone")
}

// TestFiltersComeOutAsInTheDirectory lets letter case count where the directory's schema
// says so, in runs, live counts and searches; what was not read the directory is asked for.
func TestFiltersComeOutAsInTheDirectory(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	ada := w.Person("Ada", map[string]string{"labeledURI": "ashore", "title": "Mate", "roomNumber": "7"})
	bo := w.Person("Bo", map[string]string{"labeledURI": "ASHORE", "title": "mate", "roomNumber": "8"})
	d := worldtest.Document()
	d.Users.Filter = "(&(title=MATE)(!(labeledURI=ashore)))"
	w.Activate(d)
	w.InStep(1)
	assert.NotNil(t, w.User("bo@brisling.example"), "labeledURI is compared by caseExactMatch, title is not")
	assert.Nil(t, w.User("ada@brisling.example"))
	w.Says([]string{"scope", "count"}, "not kept by the filter")
	assert.NotContains(t, w.Says([]string{"find", "(labeledURI=ash*)"}), bo)
	w.Says([]string{"find", "(labeledURI=ASH*)"}, bo)

	w.Says([]string{"find", "(roomNumber=7)"}, ada)
	w.Refuses([]string{"find", "(roomNumber=7"}, "filter")
}
