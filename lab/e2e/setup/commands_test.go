package setup_test

import (
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

func words(line string) []string { return strings.Fields(line) }

// TestRulesAreWrittenByCommands edits rules in the draft and looks at each step
// at what the draft has become.
func TestRulesAreWrittenByCommands(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.TeamsLDIF)
	w.Activate(worldtest.WithGroups())
	ada := w.Person("Ada Brekke", map[string]string{"title": "mate", "mobile": "+47 900"})
	w.Group("Deck", ada)
	rule := func(target string) settings.Rule {
		t.Helper()
		for _, r := range worldtest.Reads[settings.Taking](w, "rules", "list").Rules {
			if r.Target == target {
				return r
			}
		}
		return settings.Rule{}
	}

	w.Says(words("rules list"), "TARGET", "from givenName")
	w.Says(words("rules list --kind group"), "reference member")
	w.Says(words("rules targets"), "userName", "string, required, unique", `phoneNumbers[type eq "mobile"].value`, "nickName")
	w.Says([]string{"rules", "set", "nickName", "--from", "givenName"}, "Draft version", `+ users.rules[nickName] = {"from":"givenName","target":"nickName"}`)
	assert.Equal(t, "givenName", rule("nickName").From)
	w.Says([]string{"rules", "set", "preferredLanguage", "--always", "nn-NO", "--create-only"})
	assert.True(t, rule("preferredLanguage").CreateOnly)
	w.Says([]string{"rules", "set", "title", "--formula", "capitalized(entry.title)", "--when", `entry.title != "none"`, "--fallback", `"Crew"`})
	assert.Equal(t, `"Crew"`, rule("title").Fallback)
	w.Says([]string{"rules", "set", `phoneNumbers[type eq "mobile"].value`, "--from", "mobile"})
	w.Says([]string{"rules", "set", "roles", "--grant", "deckhand=cn=Deck," + worldtest.Teams})
	require.Len(t, rule("roles").Granted, 1)
	w.Says([]string{"rules", "set", worldtest.ManagerTarget + ":department", "--always", "17"})
	assert.EqualValues(t, 17, rule(worldtest.ManagerTarget+":department").Always)
	w.Says([]string{"rules", "remove", worldtest.ManagerTarget + ":department"})
	assert.Empty(t, rule(worldtest.ManagerTarget+":department").Target)
	w.Refuses([]string{"rules", "remove", "locale"}, "no rule sets locale", "kambrel rules list")
	w.Refuses([]string{"rules", "set", "roles", "--grant", "deckhand"}, "VALUE=GROUP")
	w.Refuses([]string{"rules", "list", "--kind", "printers"}, "printers")
	w.Says(words("rules reset displayName"))
	w.Refuses(words("rules reset badges"), "no default rule for badges")

	w.Says([]string{"rules", "person"}, "there are no person rules")
	w.Says([]string{"rules", "person", "same address", "--from", "mail", "--carried-id", "description"})
	w.Says([]string{"rules", "person"}, "same address", "mail", "carried id", "description")
	w.Refuses([]string{"rules", "person", "same shoe", "--remove"}, "same shoe")
	w.Says([]string{"rules", "person", "same address", "--remove", "--carried-id", ""})
	w.Says([]string{"rules", "person"}, "there are no person rules")

	// What stands in the draft is what is activated, and what the run does.
	w.Says(words("settings draft"), "nickName", "preferredLanguage", "roles")
	w.Says(words("settings activate --yes"))
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	made := w.User("ada.brekke@brisling.example")
	assert.Equal(t, "Mate", made["title"])
	assert.Equal(t, "nn-NO", made["preferredLanguage"])
	assert.Contains(t, made["phoneNumbers"], map[string]any{"type": "mobile", "value": "+47 900"})
	w.Run(wire.NewRun{}) // roles come with the membership
	assert.Contains(t, w.User("ada.brekke@brisling.example")["roles"], map[string]any{"value": "deckhand"})

	w.Says([]string{"rules", "reset"})
	assert.Empty(t, rule("nickName").Target, "all defaults are back")
	w.Says(words("settings discard"))
	assert.Equal(t, "givenName", rule("nickName").From)
}

// TestSettingsGoOutAndComeBackAsFiles exports, edits, imports and returns.
func TestSettingsGoOutAndComeBackAsFiles(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.TeamsLDIF)
	w.Activate(worldtest.WithGroups())
	ada := w.Person("Ada Brekke", nil)
	w.Person("Bo Ravn", nil)
	deck := w.Group("Deck", ada)
	require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
	w.Says(words("settings show"), "Revision 1", "by administrator", "brisling")
	file := filepath.Join(t.TempDir(), "settings.yaml")
	text := w.Says(words("settings export"))
	edited := strings.Replace(text, "removals: ", "removals: 9", 1)
	require.NotEqual(t, text, edited)
	require.NoError(t, os.WriteFile(file, []byte(edited), 0o600))
	w.Says([]string{"settings", "check", file})
	w.Says([]string{"settings", "import", file}, "guard.removals: 20 -> 920")
	w.Refuses([]string{"settings", "import", file}, "--replace", "1 difference")
	w.Says([]string{"settings", "import", file, "--replace"})
	w.Says([]string{"settings", "activate", "--yes"})
	w.Says(words("settings show --revision 1"), "Revision 1")
	w.Refuses(words("settings show --revision 7"), "7")
	w.Says(words("settings diff 1 2"), "guard.removals")
	w.Says(words("settings return 1"), "guard.removals: 920 -> 20")
	w.Says(words("settings activate --yes"))
	w.Says(words("settings diff 1 3"), "No difference")
	w.Says(words("settings history"), "3", "administrator")

	// Scope by commands: a pilot group, a kind off and on.
	w.Says([]string{"scope", "limit", "users", "--group", deck, "--nested"})
	counts := worldtest.Reads[wire.ScopeCounts](w, "scope", "count")
	for _, kind := range counts.Kinds {
		if kind.Kind == "user" {
			assert.Equal(t, 1, kind.In, "the members of the pilot group only")
		}
	}
	w.Says(words("scope limit users"))
	w.Says(words("scope off groups"))
	assert.True(t, worldtest.Reads[wire.Draft](w, "settings", "draft").Document.Groups.Off)
	w.Says(words("scope on groups"))
	assert.False(t, worldtest.Reads[wire.Draft](w, "settings", "draft").Document.Groups.Off)
	w.Refuses(words("scope off printers"), "printers")
}

// TestWhatIsForecastIsListedShownAndExported looks at one forecast by every
// command, and signs in by the command line.
func TestWhatIsForecastIsListedShownAndExported(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	w.InCloud("jon.sletta", nil)
	w.InCloud("desk", map[string]any{"displayName": "The Desk"})
	w.InCloud("mira.tangen", map[string]any{"displayName": "Mira Tangen", "name": map[string]any{"givenName": "Mira", "familyName": "Tangen"}})
	w.Person("Jon Sletta", nil)
	w.Person("Ada Brekke", nil)
	mira := w.Person("Mira Tangen", map[string]string{"mail": "mt@brisling.example", "givenName": "Mira"})
	w.Activate(worldtest.Document())
	w.Refuses(words("forecast show create"), "nothing was forecast yet")
	out, _, status := w.Kambrel("forecast")
	assert.Equal(t, 2, status, "somebody must be decided about")
	for _, text := range []string{"adopt", "create", "near-miss", "Somebody looks like the same person", "unclaimed"} {
		assert.Contains(t, out, text)
	}
	w.Says(words("forecast show near-miss"), mira, "mira.tangen@brisling.example")
	w.Says(words("forecast show adopt"), "jon.sletta@brisling.example")
	w.Says(words("forecast unclaimed"), "The Desk", "Mira Tangen")
	assert.NotContains(t, w.Says(words("forecast unclaimed --text desk")), "Mira")
	rows, err := csv.NewReader(strings.NewReader(w.Says(words("forecast export")))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4, "a head and three people")
	assert.Equal(t, "outcome", rows[0][1])
	run := w.Run(wire.NewRun{})
	rows, err = csv.NewReader(strings.NewReader(w.Says([]string{"runs", "export", "2"}))).ReadAll()
	require.NoError(t, err)
	assert.Len(t, rows, 1+run.Counts.Changes+run.Counts.Problems)
	w.Refuses(words("runs export 99"), "99")

	w.Says(words("formula functions"), "capitalized", "first")
	w.Says(words("agent list"), "brisling-1", "online")
	w.Refuses(words("agent retire 00000000-0000-4000-8000-000000000000"), "no agent")
	w.Says([]string{"show", "jon.sletta@brisling.example"}, "adopt by run 2", "nsUniqueId", "IN THE CLOUD", "from sn")
	w.Says([]string{"show", mira}, "Somebody looks like the same person", "WOULD BE", "kambrel link")
	w.Says([]string{"show", "desk@brisling.example"}, "in the cloud only", "The Desk", "the cloud's own")
	w.Refuses([]string{"show", "nobody at all"}, "nothing in the mirrors fits")
	object := worldtest.Reads[wire.Object](w, "show", "jon.sletta@brisling.example")
	assert.Equal(t, "adopt", object.Link.How)

	// The session of a login is kept for later commands, for its owner only.
	home := t.TempDir()
	login := func(secret string) (string, string, int) {
		return worldtest.KambrelIn(t, home, secret, "login", w.URL, "--password-file", "-")
	}
	_, stderr, status := login("wrong")
	assert.Equal(t, 1, status)
	assert.NotContains(t, stderr, "wrong\n")
	out, stderr, status = login(worldtest.Password + "\n")
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "Signed in as administrator")
	assert.NotContains(t, out+stderr, worldtest.Password)
	out, stderr, status = worldtest.KambrelIn(t, home, "", "health")
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

// TestLimitsAreSetByCommandsAndInTheConsole changes the guard, the leaver policy and how long
// things are remembered, and loses as many people as the new guard holds.
func TestLimitsAreSetByCommandsAndInTheConsole(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, worldtest.LDIFPeople(6))
	w.Activate(worldtest.Document())
	w.Run(wire.NewRun{})
	w.Says(words("guard"), "removals", "of the 6 that are linked now, none: lower it", "logins")
	w.Refuses(words("guard set --members 5"), "--members", "as 20,5")
	w.Says(words("guard set --removals 2 --share 10 --within 4h --logins 3,7%"), "guard.removals: 20 -> 2", "guard.logins")
	w.Refuses(words("leavers policy users"), "--policy")
	w.Refuses(words("leavers policy computers --policy keep"), "computers")
	w.Says(words("leavers policy users --policy delete --grace 48h"), "users.leavers")
	w.Says(words("settings remember 30"), "history")
	w.Refuses(words("settings remember always"), "no number of days")
	w.Says(words("settings activate --yes --note tighter"), "evision 2")
	w.Says(words("guard"), "3 and more", "7 %", "4h")
	for i := range 3 {
		require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(worldtest.Crew(i), nil)))
	}
	assert.Equal(t, 3, w.Run(wire.NewRun{}).Counts.Held)

	do, shows := w.Console()
	fill := func(label, value string) chromedp.Action {
		field := fmt.Sprintf(`[aria-label=%q]`, label)
		return chromedp.Tasks{chromedp.WaitVisible(field, chromedp.ByQuery), chromedp.SendKeys(field, kb.End+strings.Repeat(kb.Backspace, 6)+value+kb.Tab, chromedp.ByQuery)}
	}
	do("open the guard", chromedp.Navigate(w.URL+"/settings?view=limits"), shows("p[role=status]", "3 and more removals are held"))
	do("lower it", fill("Removals, number", "0"), fill("People whose login changes, percent", "9"), fill("Days of history", "60"), shows("p[role=status]", "1 and more removals are held"),
		worldtest.Button("Save draft"), shows(".draft", "3 differences from revision 2"))
	draft, err := w.Client.Draft(t.Context())
	require.NoError(t, err)
	assert.Zero(t, draft.Document.Guard.Removals)
	assert.Equal(t, settings.Limit{Number: 3, Share: 9}, *draft.Document.Guard.Logins)
	assert.Equal(t, 60, draft.Document.History.Days)
}
