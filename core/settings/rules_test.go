package settings

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
)

const deck = "CN=Deck,OU=Fleet,DC=corp,DC=halvard,DC=example"

// TestEachFaultOfARule breaks one thing at a time in settings that are well: it
// is told at its place, and nothing else is.
func TestEachFaultOfARule(t *testing.T) {
	t.Parallel()
	// The rule that is broken stands behind the default ones.
	rule := func(r Rule) func(*Document) { return func(d *Document) { d.Users.Rules = append(d.Users.Rules, r) } }
	ofGroups := func(r Rule) func(*Document) {
		return func(d *Document) { d.Groups.Rules = append(d.Groups.Rules, r) }
	}
	withPerson := func(j PersonRule) func(*Document) {
		return func(d *Document) { d.Users.Person = append(d.Users.Person, j) }
	}
	for _, c := range []struct {
		name  string
		spoil func(*Document)
		path  string
		says  string
	}{
		{"no way", rule(Rule{Target: "nickName"}), "users.rules[11]", "0 are set"},
		{"two ways", rule(Rule{Target: "nickName", From: "cn", Always: "x"}), "users.rules[11]", "2 are set"},
		{"a target that is no path", rule(Rule{Target: "emails[", From: "cn"}), "users.rules[11].target", "no resource attribute"},
		{"a target twice", rule(Rule{Target: "TITLE", From: "cn"}), "users.rules[11].target", "users.rules[6] sets TITLE already"},
		{"the cloud's own id", rule(Rule{Target: "id", From: "cn"}), "users.rules[11].target", "cannot be set by a rule"},
		{"passwords", rule(Rule{Target: "password", From: "cn"}), "users.rules[11].target", "cannot be set by a rule"},
		{"memberships of people", rule(Rule{Target: "groups", From: "memberOf"}), "users.rules[11].target", "cannot be set by a rule"},
		{"an attribute with a blank", rule(Rule{Target: "nickName", From: "given name"}), "users.rules[11].from", `"given name" is no directory attribute`},
		{"a list as fixed value", rule(Rule{Target: "nickName", Always: []any{"a"}}), "users.rules[11].always", "a text, a number, true or false"},
		{"a formula that ends early", rule(Rule{Target: "nickName", Formula: "entry.cn +"}), "users.rules[11].formula", "Syntax error"},
		{"an unknown function", rule(Rule{Target: "nickName", Formula: "shout(entry.cn)"}), "users.rules[11].formula", "shout"},
		{"a condition that is a text", rule(Rule{Target: "nickName", From: "cn", When: "entry.cn"}), "users.rules[11].when", "true or false"},
		{"a fallback that does not compile", rule(Rule{Target: "nickName", From: "cn", Fallback: `entry.cn +`}), "users.rules[11].fallback", "Syntax error"},
		{"active from an attribute", func(d *Document) { d.Users.Rules[1] = Rule{Target: "active", From: "title"} }, "users.rules[1].from", "use a formula"},
		{"no rule for the login", func(d *Document) { d.Users.Rules = d.Users.Rules[1:]; d.Users.Match = nil }, "users.rules", "no rule sets userName"},
		{"no rule for a group's name", func(d *Document) { d.Groups.Rules = d.Groups.Rules[1:]; d.Groups.Match = nil }, "groups.rules", "no rule sets displayName"},
		{"a preferred directory that is none", rule(Rule{Target: "nickName", From: "cn", Prefer: []string{"halvard", "skerry"}}), "users.rules[11].prefer[1]", `no directory is called "skerry"`},

		{"a reference under a condition", rule(Rule{Target: "assistant.value", Reference: "secretary", When: "true"}), "users.rules[11]", "takes no when"},
		{"a reference to no attribute", rule(Rule{Target: "assistant.value", Reference: "the boss"}), "users.rules[11].reference", "no directory attribute"},
		{"members of a person", rule(Rule{Target: "members", Reference: "member"}), "users.rules[11].reference", "the members of a group"},
		{"members from something else", ofGroups(Rule{Target: "owner.value", Reference: "member"}), "groups.rules[2].reference", "target: members, reference: member"},
		{"members by a formula", func(d *Document) { d.Groups.Rules[1] = Rule{Target: "members", Formula: "entry.cn"} }, "groups.rules[1].target", "write reference: member"},

		{"a grant to a group of no name", rule(Rule{Target: "roles", Granted: []Grant{{Group: "Deck", Value: "x"}}}), "users.rules[11].granted[0].group", "RFC 4514"},
		{"a grant of nothing", rule(Rule{Target: "roles", Granted: []Grant{{Group: deck, Value: " "}}}), "users.rules[11].granted[0].value", "the value that members get"},
		{"a grant of a part", rule(Rule{Target: `roles[type eq "work"].value`, Granted: []Grant{{Group: deck, Value: "x"}}}), "users.rules[11].target", "name the whole attribute"},
		{"a grant on creation only", rule(Rule{Target: "roles", CreateOnly: true, Granted: []Grant{{Group: deck, Value: "x"}}}), "users.rules[11]", "follows the membership"},
		{"a grant to groups", ofGroups(Rule{Target: "roles", Granted: []Grant{{Group: deck, Value: "x"}}}), "groups.rules[2].granted", "only people"},

		{"a match rule without a name", func(d *Document) { d.Users.Match[0].Name = "" }, "users.match[0].name", "give the match rule a name"},
		{"a match rule for what no rule makes", func(d *Document) { d.Users.Match[0].Resource = "nickName" }, "users.match[0].from", "no rule makes nickName"},
		{"a match rule from no attribute", func(d *Document) { d.Users.Match[0].From = "a b" }, "users.match[0].from", "no directory attribute"},
		{"a person rule without a name", withPerson(PersonRule{From: "mail"}), "users.person[0].name", "give the person rule a name"},
		{"a person rule of two ways", withPerson(PersonRule{Name: "same", From: "mail", Formula: "entry.mail"}), "users.person[0]", "exactly one of from and formula"},
		{"a person rule by a fault", withPerson(PersonRule{Name: "same", Formula: "entry."}), "users.person[0].formula", "Syntax error"},
		{"a carried id with a blank", func(d *Document) { d.Users.CarriedID = "old id" }, "users.carriedId", "no directory attribute"},
		{"groups that are one", func(d *Document) { d.Groups.Person = []PersonRule{{Name: "same", From: "cn"}} }, "groups.person", "only people"},

		{"people whom nobody may forget", func(d *Document) { d.Users.Leavers = "forget" }, "users.leavers", "suspend, delete or keep"},
		{"groups that cannot be suspended", func(d *Document) { d.Groups.Leavers = Suspend }, "groups.leavers", "delete or keep"},
		{"a grace time of days", func(d *Document) { d.Contacts.Grace = "30d" }, "contacts.grace", "as in 720h"},
		{"a grace time that is over", func(d *Document) { d.Users.Grace = "-1h" }, "users.grace", "no duration"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			document := halvard()
			d, err := document.Clone()
			require.NoError(t, err)
			require.Empty(t, d.Validate())
			c.spoil(&d)
			faults := d.Validate()
			require.Len(t, faults, 1, "%+v", faults)
			assert.Equal(t, c.path, faults[0].Path)
			assert.Contains(t, faults[0].Message, c.says)
		})
	}
}

// TestRulesThatAreWell are accepted, whatever they combine.
func TestRulesThatAreWell(t *testing.T) {
	t.Parallel()
	d := halvard()
	d.Users.Rules = append(d.Users.Rules,
		Rule{Target: "nickName", From: "givenName", When: `entry.givenName != ""`, Fallback: `entry.cn`, CreateOnly: true, Required: true, Prefer: []string{"halvard"}},
		Rule{Target: "preferredLanguage", Always: "nn-NO"},
		Rule{Target: "urn:standin.example:params:scim:schemas:extension:account:2.0:User:guest", Formula: `"Guests" in all.memberOf`},
		Rule{Target: "roles", Granted: []Grant{{Group: deck, Value: "deckhand"}, {Group: deck, Value: "lookout"}}, Fallback: `"crew"`},
		Rule{Target: "assistant.value", Reference: "secretary"},
	)
	d.Users.Person, d.Users.CarriedID = []PersonRule{{Name: "same number", Formula: `first([entry.employeeID, entry.employeeNumber])`}}, "extensionAttribute1"
	d.Users.Leavers, d.Users.Grace = Delete, "720h"
	d.Contacts = Taking{Off: true}
	d.Of(entry.Group).Match = append(d.Of(entry.Group).Match, MatchRule{Name: "same name", Resource: "displayName", From: "cn"})
	assert.Empty(t, d.Validate())
}
