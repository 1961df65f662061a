package compare

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"kambrel.example/kambrel/core/change"
)

func TestOnlyWhatWouldBeDoneOtherwiseDiffers(t *testing.T) {
	t.Parallel()
	title := func(after, source string) Plan {
		return Plan{Operation: "update", Diffs: []change.Diff{{Target: "title", Before: "Hand", After: after, Source: source}}}
	}
	members := func(values ...string) Plan {
		return Plan{Operation: "update", Diffs: []change.Diff{{Target: "members", Added: change.Members(values)}}}
	}
	blocked := Plan{Operation: "none", Code: "near-miss"}
	about := func(entry string, plans ...Plan) (changes []Change) {
		for _, p := range plans {
			changes = append(changes, Change{Entry: entry, Kind: "user", Name: "name of " + entry, Plan: p})
		}
		return changes
	}
	// Groups that are made in a directory have no entry yet.
	written := func(resource, name string) []Change {
		return []Change{{Entry: "d/", Written: resource, Kind: "group", Name: name, Plan: Plan{Operation: "create"}}}
	}
	here := slices.Concat(
		about("a", title("Mate", "rule 1")), about("b", title("Mate", "")), about("c", blocked), about("d", members("x", "y")), about("e", title("Mate", ""), blocked), about("f", Plan{Operation: "suspend"}),
		written("1", "one"), written("2", "two"))
	there := slices.Concat(
		about("f", Plan{Operation: "suspend", Held: true}), about("a", title("Mate", "rule 2")), about("b", title("Cook", "")), about("d", members("y", "x")), about("e", blocked, title("Mate", "")), about("g", blocked),
		written("1", "one"), written("3", "three"))
	alike, differ := Compare(here, there)
	assert.Equal(t, 4, alike, "not by which rule, nor in which order")
	var names []string
	for _, d := range differ {
		names = append(names, d.Name)
	}
	assert.Equal(t, []string{"three", "two", "name of b", "name of c", "name of f", "name of g"}, names)
	assert.Empty(t, differ[3].There)
	assert.NotNil(t, differ[3].There)
	assert.Equal(t, []Plan{blocked}, differ[5].There)
	alike, differ = Compare(nil, nil)
	assert.Zero(t, alike)
	assert.Empty(t, differ)
}
