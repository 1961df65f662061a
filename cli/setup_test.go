package cli

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/core/survey"
	"kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
)

// TestWhatTheFirstDayPrints reads what each command says of an answer of the
// service, and the exit status that scripts go by.
func TestWhatTheFirstDayPrints(t *testing.T) {
	t.Parallel()
	at := time.Now()
	no := false
	probe := wire.Probe{At: at, Outcome: "bad", Verdicts: []orders.Verdict{
		{Step: "tls", Outcome: "bad", Detail: "expired", Advice: "Renew it."}, {Step: "right", Subject: "repair, user", Outcome: "good", Detail: "may", Advice: "never shown"}}}
	directory := wire.ConnectedDirectory{Name: "halvard", Dialect: entry.AD, Base: "DC=example", Active: true, Plain: true, Probe: &probe,
		Agents: []wire.Agent{{Name: "one", Host: "dc1", State: "online"}, {Name: "two", State: "offline"}}, Entries: 327, Links: 220, Features: []entry.Feature{entry.FeatureRepair}}
	draft := wire.Draft{Version: 4, Active: 2, By: "ingrid", Differences: []settings.Difference{{Path: "guard.share", Before: 5, After: 7}, {Path: "users.off", After: true}, {Path: "users.filter", Before: "(cn=a)"}},
		Faults: []problem.Fault{{Path: "guard.share", Message: "too much"}}}
	address := answering(t, map[string]any{
		"/directories": []wire.ConnectedDirectory{directory}, "/directories/halvard": directory, "/directories/halvard/probe": probe, "/directories/halvard/rights": wire.Rights{Text: "write mail\n"},
		"/directories/halvard/containers": wire.ContainerTree{Directory: "halvard", Read: &at, Vanished: []wire.Vanished{{Text: "OU=Old was deleted"}}, Nodes: []wire.Container{
			{DN: "DC=example", Name: "DC=example", Parent: -1, Mixed: true, Below: wire.KindCounts{Users: 9}}, {DN: "OU=Fleet,DC=example", Name: "Fleet", Mark: "include", State: "include", Below: wire.KindCounts{Users: 7}},
			{DN: "OU=Old,OU=Fleet,DC=example", Name: "Old", Parent: 1, Mark: "exclude", State: "exclude"}}},
		"/directories/halvard/removal": wire.RemovalPreview{Name: "halvard", Text: "Its 220 links are put aside."},
		"/removals":                    []wire.Removal{{ID: 3, Name: "brisling", Links: 60, By: "odd", Removed: at, Until: at}},
		"/removals/3/undo":             wire.BroughtBack{Name: "brisling", Links: 59, Lost: 1, Revision: 8},
		"/cloud":                       wire.CloudView{URL: "https://cloud.example", Capabilities: []wire.Capability{{Name: "patch", Meaning: "whole resources are sent"}}, DomainsFrom: "unknown"},
		"/cloud/connection":            wire.CloudConnection{URL: "https://cloud.example", SetBy: "ingrid", SetAt: &at},
		"/cloud/probe":                 []orders.Verdict{{Step: "token", Outcome: "bad", Detail: "401", Advice: "Write a valid one."}},
		"/settings/draft":              draft,
		"/settings/revisions":          wire.Page[wire.RevisionLine]{Items: []wire.RevisionLine{{Revision: 2, By: "ingrid", Activated: at, Note: "Fleet first"}}},
		"/settings/diff":               wire.Comparison{Differences: []settings.Difference{}},
		"/settings/draft/impact":       wire.Run{ID: 9},
		"/scope/preview": wire.ScopeCounts{Missing: []string{"halvard: title"}, Vanished: []wire.Vanished{{Text: "halvard has no OU=Gone"}}, Kinds: []wire.KindScope{{Kind: "user", Verdicts: []wire.VerdictCount{
			{Title: "take part", Count: 292}, {Title: "not kept by the filter", Count: 1, Samples: []wire.Sample{{Name: "Pilot Station North", DN: "CN=x"}}}}}}},
		"/surveys/0":          wire.Survey{Run: wire.Run{ID: 5, Counts: progress.Counts{Surveyed: 344, Findings: 2}}, Groups: []wire.FindingGroup{{Code: "suffix-not-verified", Title: "Login suffix is not verified", Count: 2, Repairable: 1}}, Domains: []survey.Domain{{Name: "corp.example", Entries: 12, Verified: &no}}},
		"/surveys/0/findings": wire.Page[wire.Finding]{Total: 40, Items: []wire.Finding{{Number: 1, Code: "address-twice", Name: "Siv", Attribute: "otherMailbox", Value: "bridge@halvard.example", Action: "remove"}}},
		"/surveys/0/repairs":  wire.ChosenRepairs{Left: 2, Items: []wire.RepairItem{{Directory: "halvard", Name: "Siv", Attribute: "mail", Before: "a", After: ""}}},
		"/repairs":            []wire.Repair{{ID: 2, Created: at, By: "ingrid", Undoes: 1, State: "problems", Done: 3, Failed: 1}},
		"/repairs/2":          wire.Repair{ID: 2, Created: at, By: "ingrid", Undoes: 1, State: "problems", Done: 1, Failed: 1, Items: []wire.RepairItem{{State: "failed", DN: "CN=Siv", Attribute: "mail", Before: "a", After: "b", Answer: "Insufficient Access Rights"}}},
		"/filters/check":      wire.CheckedFilter{Fault: &problem.Fault{Column: 7, Message: "expected a closing parenthesis"}},
	})
	for _, c := range []struct {
		args   []string
		status int
		want   []string
	}{
		{[]string{"directory", "list"}, 0, []string{"halvard", "1 of 2 online, PLAIN LDAP", "bad "}},
		{[]string{"directory", "show", "halvard"}, 0, []string{"features  repair", "two on", "-> Renew it."}},
		{[]string{"directory", "probe", "halvard"}, 2, []string{"BAD  tls", "-> Renew it.", "right (repair, user)"}},
		{[]string{"directory", "rights", "halvard"}, 0, []string{"write mail"}},
		{[]string{"directory", "remove", "halvard"}, 1, []string{"220 links", "give --confirm halvard"}},
		{[]string{"directory", "removed"}, 0, []string{"brisling", "60"}},
		{[]string{"directory", "restore", "3"}, 0, []string{"back with 59 links, in revision 8", "1 link could not come back"}},
		{[]string{"directory", "restore", "brisling"}, 1, []string{"is no number"}},
		{[]string{"cloud", "show"}, 0, []string{"ingrid has said so at", "patch", "no ", "unknown (told by: unknown)"}},
		{[]string{"cloud", "probe"}, 2, []string{"BAD  token", "Write a valid one."}},
		{[]string{"scope", "tree", "halvard"}, 0, []string{"[-] DC=example", "  [x] Fleet", "    [ ] Old", "VANISHED: OU=Old was deleted"}},
		{[]string{"scope", "count", "--samples", "1"}, 0, []string{"NOT READ YET: halvard: title", "VANISHED: halvard has no OU=Gone", "Pilot Station North", "292"}},
		{[]string{"scope", "filter", "users", "(cn=ada"}, 1, []string{"(cn=ada\n      ^ character 7: expected a closing"}},
		{[]string{"scope", "filter", "ferries", "(cn=a)"}, 1, []string{`"ferries" is no kind`}},
		{[]string{"settings", "draft"}, 0, []string{"Draft version 4 by ingrid, 3 differences", "~ guard.share: 5 -> 7", "+ users.off = true", "- users.filter = (cn=a)", "fault: guard.share: too much", "cannot be activated"}},
		{[]string{"settings", "activate", "--yes"}, 1, []string{"too much"}},
		{[]string{"settings", "history"}, 0, []string{"Fleet first"}},
		{[]string{"settings", "diff", "1", "2"}, 0, []string{"No difference."}},
		{[]string{"settings", "return", "first"}, 1, []string{"is no number of a revision"}},
		{[]string{"survey", "show"}, 0, []string{"(take away)", "and 39 more"}},
		{[]string{"survey", "show", "newest"}, 1, []string{"is no number of a survey"}},
		{[]string{"survey", "repair", "--kind", "x", "--dry-run"}, 0, []string{"(nothing)", "2 findings left as they are"}},
		{[]string{"survey", "repair", "--kind", "x"}, 1, []string{"nothing was done: there is no terminal", "--yes"}},
		{[]string{"survey", "repair", "--kind", "x", "--replace-suffix", "@a"}, 1, []string{"write OLD=NEW"}},
		{[]string{"survey", "repairs"}, 0, []string{"problems", "ingrid"}},
		{[]string{"survey", "repairs", "2"}, 0, []string{"It undoes repair 1.", "Insufficient Access Rights", "kambrel survey undo 2"}},
	} {
		out, status := run(append(c.args, "--service", address, "--token", "secret")...)
		assert.Equal(t, c.status, status, "%q: %s", c.args, out)
		for _, part := range c.want {
			assert.Contains(t, out, part, "%q", c.args)
		}
	}
	printed, status := run("survey", "show", "--service", address, "--token", "secret", "-o", "yaml")
	assert.Zero(t, status)
	assert.Contains(t, printed, "action: remove")
}

func TestASettingsFileIsCheckedWithoutAService(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "settings.yaml")
	document := settings.Default(settings.Directory{Name: "halvard", Dialect: entry.AD, Base: "DC=example", Containers: settings.Containers{Include: []string{"DC=example"}}})
	write := func() {
		text, err := document.YAML()
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, text, 0o600))
	}
	write()
	out, status := run("settings", "check", file)
	assert.Zero(t, status, out)
	assert.Contains(t, out, "no fault")
	document.Users.Rules[1].Formula = "entry.cn +"
	document.Guard.Removals = -1
	write()
	out, status = run("settings", "check", file)
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "users.rules[1].formula")
	assert.Contains(t, out, "at line 1, character 11 of the value")
	assert.Contains(t, out, "guard.removals")
	out, status = run("settings", "check", filepath.Join(t.TempDir(), "none"))
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "no such file")
}

func TestAContainerIsMarkedWhereItsBaseIs(t *testing.T) {
	t.Parallel()
	document := settings.Document{Directories: []settings.Directory{
		{Name: "halvard", Base: "DC=corp,DC=halvard,DC=example", Containers: settings.Containers{Exclude: []string{"ou=fleet, dc=corp,dc=halvard,dc=example"}}},
		{Name: "brisling", Base: "dc=brisling,dc=example"},
	}}
	include := func(c *settings.Containers, dn string) { c.Include = append(c.Include, dn) }
	require.NoError(t, markOne(&document, "OU=Fleet,DC=corp,DC=halvard,DC=example", include))
	require.NoError(t, markOne(&document, "ou=Quays,dc=brisling,dc=example", include))
	assert.Empty(t, document.Directories[0].Containers.Exclude, "one mark takes the place of the other")
	assert.Equal(t, []string{"OU=Fleet,DC=corp,DC=halvard,DC=example"}, document.Directories[0].Containers.Include)
	assert.Equal(t, []string{"ou=Quays,dc=brisling,dc=example"}, document.Directories[1].Containers.Include)
	assert.ErrorContains(t, markOne(&document, "OU=X,DC=elsewhere", include), "base of no directory")
	assert.ErrorContains(t, markOne(&document, "Fleet", include), "RFC 4514")
}
