package rules

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/settings"
)

func compiled(t *testing.T) *Set {
	t.Helper()
	set, err := Compile(settings.Taking{Rules: []settings.Rule{
		{Target: "userName", From: "userPrincipalName", Required: true},
		{Target: "active", Formula: "!flag(entry.userAccountControl, 2)"},
		{Target: "userType", Always: "Employee"},
		{Target: "title", From: "title"},
		{Target: "nickName", Formula: `entry.cn.split(" ")[1]`},
	}})
	require.NoError(t, err)
	return set
}

func ada() entry.Entry {
	return entry.Entry{Attributes: entry.Attributes{"userPrincipalName": {"ada@halvard.example"}, "cn": {"Ada Brekke"}, "userAccountControl": {"512"}, "title": {"  "}}}
}

func TestApply(t *testing.T) {
	t.Parallel()
	desired := compiled(t).Apply(Person{ada()})
	require.Nil(t, desired.Problem)
	got := map[string]any{}
	for _, value := range desired.Values {
		got[value.Path.String()] = value.Value
	}
	assert.Equal(t, map[string]any{"userName": "ada@halvard.example", "active": true, "userType": "Employee", "title": nil, "nickName": "Brekke"}, got)
	assert.Equal(t, "from userPrincipalName", desired.Values[0].Source)
	assert.ElementsMatch(t, []string{"userPrincipalName", "userAccountControl", "title", "cn"}, compiled(t).Attributes())
}

func TestAnEntryThatCannotBeSyncedSaysWhichRuleAndWhy(t *testing.T) {
	t.Parallel()
	without := ada()
	delete(without.Attributes, "userPrincipalName")
	desired := compiled(t).Apply(Person{without})
	require.NotNil(t, desired.Problem)
	assert.Equal(t, problem.RequiredMissing, desired.Problem.Code)
	assert.Contains(t, desired.Problem.Detail, "the entry has no userPrincipalName")

	oneWord := ada()
	oneWord.Attributes["cn"] = []string{"Ada"}
	desired = compiled(t).Apply(Person{oneWord})
	require.NotNil(t, desired.Problem)
	assert.Equal(t, problem.FormulaFailed, desired.Problem.Code)
	assert.Contains(t, desired.Problem.Detail, `cn is ["Ada"]`)
	nodes := compiled(t).Explain(Person{oneWord})
	assert.Equal(t, reason.Bad, nodes[4].Outcome)
	assert.True(t, nodes[4].Deciding)
}

func TestWhoseValueCountsForOnePersonOfSeveralDirectories(t *testing.T) {
	t.Parallel()
	set, err := Compile(settings.Taking{Rules: []settings.Rule{
		{Target: "title", From: "title"},
		{Target: "nickName", From: "title", Prefer: []string{"brisling"}},
		{Target: "locale", From: "preferredLanguage", Fallback: `"nb"`},
		{Target: "userType", From: "employeeType", Fallback: `"Crew"`},
		{Target: "roles", Granted: []settings.Grant{{Group: "cn=a,dc=example", Value: "pier"}, {Group: "cn=b,dc=example", Value: "crane"}}},
	}})
	require.NoError(t, err)
	halvard := entry.Entry{Directory: "halvard", Attributes: entry.Attributes{"title": {"Mate"}}, AllGroups: []string{"cn=a,dc=example"}}
	brisling := entry.Entry{Directory: "brisling", Attributes: entry.Attributes{"title": {"Driver"}, "preferredLanguage": {"da"}}, AllGroups: []string{"cn=b,dc=example"}}
	desired := set.Apply(Person{halvard, brisling})
	assert.Equal(t, "Mate", desired.Value("title"), "the first directory")
	assert.Equal(t, "Driver", desired.Value("nickName"), "the preferred one")
	assert.Equal(t, "da", desired.Value("locale"), "the one that has a value, before any fallback")
	assert.Equal(t, "Crew", desired.Value("userType"))
	assert.Equal(t, []string{"pier", "crane"}, desired.Values[4].Granted.Have, "by membership in either")
	assert.Equal(t, "from title, of brisling", desired.Values[1].Source)
	nodes := set.Explain(Person{halvard, brisling})
	assert.Equal(t, "of halvard, which does not count", nodes[1].Children[0].Text)
	assert.Equal(t, "Mate", nodes[1].Children[0].Value)
	assert.Equal(t, "Mate", set.Apply(Person{halvard}).Value("nickName"))
	assert.Equal(t, "from title", set.Apply(Person{halvard}).Values[1].Source)
}
