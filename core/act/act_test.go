package act_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kambrel.example/kambrel/core/act"
)

func TestEveryKindIsDescribed(t *testing.T) {
	t.Parallel()
	seen := map[act.Kind]bool{}
	for _, d := range act.Catalogue() {
		assert.False(t, seen[d.Kind], "%s stands twice", d.Kind)
		seen[d.Kind] = true
		assert.NotEmpty(t, d.Title, d.Kind)
		assert.NotEmpty(t, d.About, d.Kind)
	}
	for _, d := range act.Catalogue() {
		assert.True(t, d.Undo == "" || seen[d.Undo], "%s is undone by %s, which there is not", d.Kind, d.Undo)
	}
	assert.Equal(t, "of-before", act.Describe("of-before").Title, "what an older version kept is shown as it is")
}
