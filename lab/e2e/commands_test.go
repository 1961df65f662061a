package e2e

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
)

// says runs a command that must end well, and asks that its output holds texts.
func (w *world) says(command []string, texts ...string) string {
	w.t.Helper()
	out, stderr, status := w.kambrel(command...)
	require.Zero(w.t, status, "kambrel %s: %s%s", strings.Join(command, " "), out, stderr)
	for _, text := range texts {
		assert.Contains(w.t, out, text, "kambrel %s", strings.Join(command, " "))
	}
	return out
}

// refuses runs a command that must fail, saying why.
func (w *world) refuses(command []string, texts ...string) {
	w.t.Helper()
	out, stderr, status := w.kambrel(command...)
	assert.Equal(w.t, 1, status, "kambrel %s: %s", strings.Join(command, " "), out)
	for _, text := range texts {
		assert.Contains(w.t, stderr, text, "kambrel %s", strings.Join(command, " "))
	}
}

func words(line string) []string { return strings.Fields(line) }

// reads decodes what a command prints as JSON.
func reads[T any](w *world, command ...string) T {
	w.t.Helper()
	var value T
	require.NoError(w.t, json.Unmarshal([]byte(w.says(append(command, "-o", "json"))), &value))
	return value
}

// TestRulesAreWrittenByCommands edits rules in the draft and looks at each step
// at what the draft has become.
func TestRulesAreWrittenByCommands(t *testing.T) {
	t.Parallel()
	w := newWorld(t, teamsLDIF)
	w.activate(withGroups())
	ada := w.person("Ada Brekke", map[string]string{"title": "mate", "mobile": "+47 900"})
	w.group("Deck", ada)
	rule := func(target string) settings.Rule {
		t.Helper()
		for _, r := range reads[settings.Taking](w, "rules", "list").Rules {
			if r.Target == target {
				return r
			}
		}
		return settings.Rule{}
	}

	w.says(words("rules list"), "TARGET", "from givenName")
	w.says(words("rules list --kind group"), "reference member")
	w.says(words("rules targets"), "userName", "string, required, unique", `phoneNumbers[type eq "mobile"].value`, "nickName")
	w.says([]string{"rules", "set", "nickName", "--from", "givenName"}, "Draft version", `+ users.rules[nickName] = {"from":"givenName","target":"nickName"}`)
	assert.Equal(t, "givenName", rule("nickName").From)
	w.says([]string{"rules", "set", "preferredLanguage", "--always", "nn-NO", "--create-only"})
	assert.True(t, rule("preferredLanguage").CreateOnly)
	w.says([]string{"rules", "set", "title", "--formula", "capitalized(entry.title)", "--when", `entry.title != "none"`, "--fallback", `"Crew"`})
	assert.Equal(t, `"Crew"`, rule("title").Fallback)
	w.says([]string{"rules", "set", `phoneNumbers[type eq "mobile"].value`, "--from", "mobile"})
	w.says([]string{"rules", "set", "roles", "--grant", "deckhand=cn=Deck," + teams})
	require.Len(t, rule("roles").Granted, 1)
	w.says([]string{"rules", "set", managerTarget + ":department", "--always", "17"})
	assert.EqualValues(t, 17, rule(managerTarget+":department").Always)
	w.says([]string{"rules", "remove", managerTarget + ":department"})
	assert.Empty(t, rule(managerTarget+":department").Target)
	w.refuses([]string{"rules", "remove", "locale"}, "no rule sets locale", "kambrel rules list")
	w.refuses([]string{"rules", "set", "roles", "--grant", "deckhand"}, "VALUE=GROUP")
	w.refuses([]string{"rules", "list", "--kind", "printers"}, "printers")
	w.says(words("rules reset displayName"))
	w.refuses(words("rules reset badges"), "no default rule for badges")

	w.says([]string{"rules", "person"}, "there are no person rules")
	w.says([]string{"rules", "person", "same address", "--from", "mail", "--carried-id", "description"})
	w.says([]string{"rules", "person"}, "same address", "mail", "carried id", "description")
	w.refuses([]string{"rules", "person", "same shoe", "--remove"}, "same shoe")
	w.says([]string{"rules", "person", "same address", "--remove", "--carried-id", ""})
	w.says([]string{"rules", "person"}, "there are no person rules")

	// What stands in the draft is what is activated, and what the run does.
	w.says(words("settings draft"), "nickName", "preferredLanguage", "roles")
	w.says(words("settings activate --yes"))
	require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	made := w.user("ada.brekke@brisling.example")
	assert.Equal(t, "Mate", made["title"])
	assert.Equal(t, "nn-NO", made["preferredLanguage"])
	assert.Contains(t, made["phoneNumbers"], map[string]any{"type": "mobile", "value": "+47 900"})
	w.run(wire.NewRun{}) // roles come with the membership
	assert.Contains(t, w.user("ada.brekke@brisling.example")["roles"], map[string]any{"value": "deckhand"})

	w.says([]string{"rules", "reset"})
	assert.Empty(t, rule("nickName").Target, "all defaults are back")
	w.says(words("settings discard"))
	assert.Equal(t, "givenName", rule("nickName").From)
}

// TestSettingsGoOutAndComeBackAsFiles exports, edits, imports and returns.
func TestSettingsGoOutAndComeBackAsFiles(t *testing.T) {
	t.Parallel()
	w := newWorld(t, teamsLDIF)
	w.activate(withGroups())
	ada := w.person("Ada Brekke", nil)
	w.person("Bo Ravn", nil)
	deck := w.group("Deck", ada)
	require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	w.says(words("settings show"), "Revision 1", "by administrator", "brisling")
	file := filepath.Join(t.TempDir(), "settings.yaml")
	text := w.says(words("settings export"))
	edited := strings.Replace(text, "removals: ", "removals: 9", 1)
	require.NotEqual(t, text, edited)
	require.NoError(t, os.WriteFile(file, []byte(edited), 0o600))
	w.says([]string{"settings", "check", file})
	w.says([]string{"settings", "import", file}, "guard.removals: 20 -> 920")
	w.refuses([]string{"settings", "import", file}, "--replace", "1 difference")
	w.says([]string{"settings", "import", file, "--replace"})
	w.says([]string{"settings", "activate", "--yes"})
	w.says(words("settings show --revision 1"), "Revision 1")
	w.refuses(words("settings show --revision 7"), "7")
	w.says(words("settings diff 1 2"), "guard.removals")
	w.says(words("settings return 1"), "guard.removals: 920 -> 20")
	w.says(words("settings activate --yes"))
	w.says(words("settings diff 1 3"), "No difference")
	w.says(words("settings history"), "3", "administrator")

	// Scope by commands: a pilot group, a kind off and on.
	w.says([]string{"scope", "limit", "users", "--group", deck, "--nested"})
	counts := reads[wire.ScopeCounts](w, "scope", "count")
	for _, kind := range counts.Kinds {
		if kind.Kind == "user" {
			assert.Equal(t, 1, kind.In, "the members of the pilot group only")
		}
	}
	w.says(words("scope limit users"))
	w.says(words("scope off groups"))
	assert.True(t, reads[wire.Draft](w, "settings", "draft").Document.Groups.Off)
	w.says(words("scope on groups"))
	assert.False(t, reads[wire.Draft](w, "settings", "draft").Document.Groups.Off)
	w.refuses(words("scope off printers"), "printers")
}

// TestWhatIsForecastIsListedShownAndExported looks at one forecast by every
// command, and signs in by the command line.
func TestWhatIsForecastIsListedShownAndExported(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "")
	w.inCloud("jon.sletta", nil)
	w.inCloud("desk", map[string]any{"displayName": "The Desk"})
	w.inCloud("mira.tangen", map[string]any{"displayName": "Mira Tangen", "name": map[string]any{"givenName": "Mira", "familyName": "Tangen"}})
	w.person("Jon Sletta", nil)
	w.person("Ada Brekke", nil)
	mira := w.person("Mira Tangen", map[string]string{"mail": "mt@brisling.example", "givenName": "Mira"})
	w.activate(document())
	w.refuses(words("forecast show create"), "nothing was forecast yet")
	out, _, status := w.kambrel("forecast")
	assert.Equal(t, 2, status, "somebody must be decided about")
	for _, text := range []string{"adopt", "create", "near-miss", "Somebody looks like the same person", "unclaimed"} {
		assert.Contains(t, out, text)
	}
	w.says(words("forecast show near-miss"), mira, "mira.tangen@brisling.example")
	w.says(words("forecast show adopt"), "jon.sletta@brisling.example")
	w.says(words("forecast unclaimed"), "The Desk", "Mira Tangen")
	assert.NotContains(t, w.says(words("forecast unclaimed --text desk")), "Mira")
	rows, err := csv.NewReader(strings.NewReader(w.says(words("forecast export")))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4, "a head and three people")
	assert.Equal(t, "outcome", rows[0][1])
	run := w.run(wire.NewRun{})
	rows, err = csv.NewReader(strings.NewReader(w.says([]string{"runs", "export", "2"}))).ReadAll()
	require.NoError(t, err)
	assert.Len(t, rows, 1+run.Counts.Changes+run.Counts.Problems)
	w.refuses(words("runs export 99"), "99")

	w.says(words("formula functions"), "capitalized", "first")
	w.says(words("agent list"), "brisling-1", "online")
	w.refuses(words("agent retire 00000000-0000-4000-8000-000000000000"), "no agent")
	w.says([]string{"show", "jon.sletta@brisling.example"}, "adopt by run 2", "objectGUID, base64", "IN THE CLOUD", "from sn")
	w.says([]string{"show", mira}, "Somebody looks like the same person", "WOULD BE", "kambrel link")
	w.says([]string{"show", "desk@brisling.example"}, "in the cloud only", "The Desk", "the cloud's own")
	w.refuses([]string{"show", "nobody at all"}, "nothing in the mirrors fits")
	object := reads[wire.Object](w, "show", "jon.sletta@brisling.example")
	assert.Equal(t, "adopt", object.Link.How)

	// The session of a login is kept for later commands, for its owner only.
	home := t.TempDir()
	login := func(secret string) (string, string, int) {
		return kambrelIn(t, home, secret, "login", w.url, "--password-file", "-")
	}
	_, stderr, status := login("wrong")
	assert.Equal(t, 1, status)
	assert.NotContains(t, stderr, "wrong\n")
	out, stderr, status = login(password + "\n")
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "Signed in as administrator")
	assert.NotContains(t, out+stderr, password)
	out, stderr, status = kambrelIn(t, home, "", "health")
	assert.NotEqual(t, 1, status, stderr)
	assert.Contains(t, out, "brisling")
	info, err := os.Stat(filepath.Join(home, "kambrel"))
	require.NoError(t, err)
	require.NoError(t, filepath.WalkDir(filepath.Join(home, info.Name()), func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			i, err := d.Info()
			require.NoError(t, err)
			assert.Zero(t, i.Mode().Perm()&0o077, "%s is for its owner only", path)
		}
		return err
	}))
}
