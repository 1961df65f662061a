package compare

import (
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
	object := func(entry string, plans ...Plan) Object {
		return Object{Entry: entry, Kind: "user", Name: "name of " + entry, Plans: plans}
	}
	here := []Object{
		object("a", title("Mate", "rule 1")), object("b", title("Mate", "")), object("c", blocked), object("d", members("x", "y")), object("e", title("Mate", ""), blocked), object("f", Plan{Operation: "suspend"}),
	}
	there := []Object{
		object("f", Plan{Operation: "suspend", Held: true}), object("a", title("Mate", "rule 2")), object("b", title("Cook", "")), object("d", members("y", "x")), object("e", blocked, title("Mate", "")), object("g", blocked),
	}
	alike, differ := Compare(here, there)
	assert.Equal(t, 3, alike, "not by which rule, nor in which order")
	var entries []string
	for _, d := range differ {
		entries = append(entries, d.Entry)
	}
	assert.Equal(t, []string{"b", "c", "f", "g"}, entries)
	assert.Empty(t, differ[1].There)
	assert.NotNil(t, differ[1].There)
	assert.Equal(t, []Plan{blocked}, differ[3].There)
	alike, differ = Compare(nil, nil)
	assert.Zero(t, alike)
	assert.Empty(t, differ)
}
