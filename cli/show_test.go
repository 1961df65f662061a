package cli

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
)

func textOf(t *testing.T, o wire.Object, now *wire.CloudNow) string {
	t.Helper()
	var out strings.Builder
	require.NoError(t, printObject(&out, shownObject{Object: o, Now: now}))
	return out.String()
}

func TestAnObjectIsShownFromAllSides(t *testing.T) {
	t.Parallel()
	id, err := entry.NewID("3d864a23-61ab-4c6d-868c-c7fa6b6ff1de")
	require.NoError(t, err)
	left := time.Date(2026, 3, 4, 5, 6, 0, 0, time.Local)
	view := &wire.EntryView{Entry: entry.Entry{Directory: "halvard", ID: id, Kind: entry.User, DN: "CN=Otto Reksten,OU=Fleet,DC=example", Gone: true}, Forms: id.Forms(entry.AD)}
	text := textOf(t, wire.Object{
		Entry:    view,
		Resource: entry.Resource{"id": "r1", "active": false},
		Link:     &wire.LinkView{LinkKey: id.String(), ResourceID: "r1", How: "adopt", RunID: 7, Since: left, Left: &left},
		Person: []wire.PersonEntry{
			{Directory: "brisling", EntryID: "other", DN: "cn=Otto,dc=brisling,dc=example", Rule: "same number"},
			{Directory: "halvard", EntryID: id.String(), DN: view.DN, Leads: true},
		},
		Problem: &wire.Problem{ProblemDetail: wire.DetailOf(problem.DuplicateLogin, "both are otto"), Since: left},
		Attributes: []wire.AttributeView{
			{Target: "title", Desired: "Mate", Actual: "Purser", Source: "from title", Managed: true},
			{Target: "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department", Desired: "Deck", Actual: "Deck", Source: "formula " + strings.Repeat("x", 90), Managed: true, Same: true},
			{Target: "addresses", Actual: []any{map[string]any{"type": "work", "locality": "Vik & Nes"}}, Same: true},
		},
		Changes: []wire.Change{{RunID: 9, Operation: "update", State: "done"}},
		Why:     wire.Why{Subject: "otto@halvard.example", Summary: "in: because"},
	}, &wire.CloudNow{Found: true, Differences: []wire.NowDifference{{Target: "title", Mirror: "Purser", Now: "Pilot"}}, MembersLost: 22, Lost: []string{"ada", "bo"}})
	for _, line := range []string{
		"otto@halvard.example\nin: because\n",
		"entry     CN=Otto Reksten,OU=Fleet,DC=example   (user of halvard, deleted there)",
		"          objectGUID          3d864a23-61ab-4c6d-868c-c7fa6b6ff1de",
		"          objectGUID, base64  I0qGPathbUyGjMf6a2/x3g==",
		"also      cn=Otto,dc=brisling,dc=example   (brisling, one person with it, by same number)",
		"resource  r1   (not active)",
		"(adopt by run 7, 2026-03-04 05:06; left 2026-03-04 05:06)",
		"now       THE CLOUD HAS SOMETHING ELSE",
		"          title: Pilot, and the mirror has Purser",
		"          22 members missing: ada, bo and 20 more",
		": both are otto   (since 2026-03-04 05:06)",
		"* title                    Purser, should be Mate",
		"  department (enterprise)  Deck ",
		"…",
		`[{"locality":"Vik & Nes","type":"work"}]  no rule: left alone`,
		"9    -   update  done   -",
	} {
		assert.Contains(t, text, line)
	}
	assert.NotContains(t, text, "halvard, leads", "the entry that is shown is not named twice")
}

func TestWhoIsLeftOutOfAGroupIsNamed(t *testing.T) {
	t.Parallel()
	text := textOf(t, wire.Object{
		Resource: entry.Resource{"id": "g1"},
		Members: &wire.MemberList{Total: 3, InCloud: 2, LeftOut: 1, Items: []wire.GroupMember{
			{Name: "Ada", ResourceID: "r1"}, {Name: "Bo", LeftOut: "it has left"},
		}},
	}, nil)
	assert.Contains(t, text, "members   3 in the directory, 2 in the cloud\n          Bo is left out: it has left\n")
	assert.NotContains(t, text, "Ada is")
}

func TestWhatIsInTheCloudOnlyIsShownAsItIs(t *testing.T) {
	t.Parallel()
	text := textOf(t, wire.Object{Resource: entry.Resource{"id": "r1", "schemas": []any{"x"}, "meta": map[string]any{}, "userName": "desk@halvard.example", "active": true}}, nil)
	assert.Contains(t, text, "  active     true                  the cloud's own\n  userName   desk@halvard.example  the cloud's own\n")
	assert.NotContains(t, text, "schemas")
	text = textOf(t, wire.Object{Attributes: []wire.AttributeView{{Target: "title", Desired: "Mate", Source: "from title", Managed: true}}}, nil)
	assert.Contains(t, text, "WOULD BE")
	assert.NotContains(t, text, "* title", "nothing differs from what is not there yet")
}

func TestNamesOfExtensionsAreShortened(t *testing.T) {
	t.Parallel()
	for target, want := range map[string]string{
		"title":                        "title",
		`emails[type eq "work"].value`: `emails[type eq "work"].value`,
		"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager.value":    "manager.value (enterprise)",
		"urn:standin.example:params:scim:schemas:extension:account:2.0:User:homePort": "homePort (account)",
		"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":                  "User (enterprise)",
	} {
		assert.Equal(t, want, shortTarget(target))
	}
}
