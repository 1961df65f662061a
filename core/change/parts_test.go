package change

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPartsAreOfOneValueAndJoinAgain(t *testing.T) {
	t.Parallel()
	diffs := []Diff{
		{Target: "title", Before: "Mate", After: "Master", Source: "from title"},
		{Target: "members", Added: Members([]string{"a", "b"}), Removed: Members([]string{"c"}), Source: "reference member"},
		{Target: "nickName", Before: "M"},
	}
	parts := Parts(diffs)
	assert.Len(t, parts, 5)
	for _, part := range parts[1:4] {
		assert.Equal(t, 1, len(part.Added)+len(part.Removed))
	}
	joined := Join(parts)
	assert.Equal(t, diffs[1].Added, joined[1].Added)
	assert.Equal(t, diffs[1].Removed, joined[1].Removed)
	assert.Equal(t, "title", joined[0].Target)
	assert.Len(t, joined, 3)

	again := Join(parts[2:4])
	again[0].Added[0].Value = "x"
	assert.Equal(t, "a", parts[2].Added[0].Value, "parts are left as they were")
	assert.Equal(t, "(nothing)", diffs[2].Show())
	assert.Equal(t, "+a, +b, -c", diffs[1].Show())
}
