package change_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
)

func TestVersionsOfAnEntryAreCompared(t *testing.T) {
	t.Parallel()
	before := entry.Attributes{"cn": {"Ada"}, "title": {"Mate"}, "mail": {"a@x", "b@x"}}
	after := entry.Attributes{"cn": {"Ada"}, "Title": {"Master"}, "mail": {"a@x"}, "sn": {"Lind"}}
	assert.Equal(t, []change.Diff{
		{Target: "mail", Before: []string{"a@x", "b@x"}, After: "a@x"},
		{Target: "sn", After: "Lind"},
		{Target: "Title", Before: "Mate", After: "Master"},
	}, change.Between(before, after))
	assert.Empty(t, change.Between(before, before))
}

func TestVersionsOfAResourceAreCompared(t *testing.T) {
	t.Parallel()
	const extension = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	before := entry.Resource{"id": "r1", "title": "Mate", "name": map[string]any{"givenName": "Ada"}, "meta": map[string]any{"version": "1"}}
	after := entry.Resource{"id": "r1", "name": map[string]any{"givenName": "Ada", "familyName": "Lind"}, extension: map[string]any{"department": "Deck"}, "emails": []any{map[string]any{"value": "a@x"}}, "meta": map[string]any{"version": "2"}}
	assert.Equal(t, []change.Diff{
		{Target: "emails", After: []any{map[string]any{"value": "a@x"}}},
		{Target: "name.familyName", After: "Lind"},
		{Target: "title", Before: "Mate"},
		{Target: extension + ":department", After: "Deck"},
	}, change.BetweenResources(before, after))
}
