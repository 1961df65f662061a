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
	desired := compiled(t).Apply(ada())
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
	desired := compiled(t).Apply(without)
	require.NotNil(t, desired.Problem)
	assert.Equal(t, problem.RequiredMissing, desired.Problem.Code)
	assert.Contains(t, desired.Problem.Detail, "the entry has no userPrincipalName")

	oneWord := ada()
	oneWord.Attributes["cn"] = []string{"Ada"}
	desired = compiled(t).Apply(oneWord)
	require.NotNil(t, desired.Problem)
	assert.Equal(t, problem.FormulaFailed, desired.Problem.Code)
	assert.Contains(t, desired.Problem.Detail, `cn is ["Ada"]`)
	nodes := compiled(t).Explain(oneWord)
	assert.Equal(t, reason.Bad, nodes[4].Outcome)
	assert.True(t, nodes[4].Deciding)
}
