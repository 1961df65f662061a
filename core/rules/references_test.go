package rules

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/settings"
)

func TestWhomAPersonOfSeveralDirectoriesRefersTo(t *testing.T) {
	t.Parallel()
	set, err := Compile(settings.Taking{Rules: []settings.Rule{
		{Target: "members", Reference: "member"},
		{Target: "title", From: "title"},
		{Target: "manager.value", Reference: "Manager"},
		{Target: "assistant.value", Reference: "secretary", Prefer: []string{"brisling"}},
	}})
	require.NoError(t, err)
	assert.True(t, set.Members())
	references := set.References()
	require.Len(t, references, 2, "members stand apart")
	manager, assistant := references[0], references[1]
	halvard := Pointing{Directory: "halvard", To: map[string]string{"manager": "h1", "secretary": "h2"}}
	brisling := Pointing{Directory: "brisling", To: map[string]string{"manager": "b1", "secretary": "b2"}}
	for _, c := range []struct {
		name      string
		reference Reference
		person    []Pointing
		value     any
		source    string
	}{
		{"nobody", manager, nil, nil, "reference Manager"},
		{"one entry", manager, []Pointing{halvard}, "h1", "reference Manager"},
		{"the first of the settings", manager, []Pointing{halvard, brisling}, "h1", "reference Manager, of halvard"},
		{"the one that the rule prefers", assistant, []Pointing{halvard, brisling}, "b2", "reference secretary, of brisling"},
		{"the preferred one alone has no entry", assistant, []Pointing{halvard}, "h2", "reference secretary"},
		{"who has a resource, before who has none", assistant, []Pointing{halvard, {Directory: "brisling", To: map[string]string{"secretary": ""}}}, "h2", "reference secretary, of halvard"},
		{"nobody who has a resource", manager, []Pointing{{Directory: "halvard", To: map[string]string{"manager": ""}}, {Directory: "brisling"}}, nil, "reference Manager"},
	} {
		t.Run(c.name, func(t *testing.T) {
			value, source := c.reference.Value(c.person)
			assert.Equal(t, c.value, value)
			assert.Equal(t, c.source, source)
		})
	}
}
