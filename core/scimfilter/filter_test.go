package scimfilter

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/reason"
)

func TestFiltersAreExplainedByTheirConditions(t *testing.T) {
	t.Parallel()
	group := map[string]any{"displayName": "Regatta Committee", "urn:example:group": map[string]any{"kind": "team"}}
	for text, want := range map[string]bool{
		`displayName sw "regatta"`: true,
		`displayName eq "Regatta Committee" and urn:example:group:kind eq "team"`: true,
		`not (displayName pr)`: false,
		`displayName co "board" or urn:example:group:kind eq "crew"`: false,
		`a pr and (displayName pr or b pr)`:                          false,
	} {
		f, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, text, f.String())
		node := f.Explain(group)
		assert.Equal(t, reason.Of(want), node.Outcome, text)
	}
	f, err := Parse(`displayName sw "B" and a pr`)
	require.NoError(t, err)
	node := f.Explain(group)
	assert.True(t, node.Children[0].Deciding)
	assert.Equal(t, `["Regatta Committee"]`, node.Children[0].Value)
	assert.Equal(t, "(nothing)", node.Children[1].Value)
	for text, part := range map[string]string{`displayName like "x"`: "at character 13", `displayName eq`: "expected a JSON value", `(a pr`: "expected )"} {
		_, err := Parse(text)
		require.ErrorContains(t, err, part, text)
	}
}
