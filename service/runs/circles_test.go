package runs

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/service/store"
)

func TestOneOfEachCircleIsOpened(t *testing.T) {
	t.Parallel()
	c := &circles{}
	wants := func(key, resource, holder string) {
		c.note(waiting{entry.User, resource, key}, blocked{store.Change{ResourceID: resource}, change.Diff{Target: key}, holder})
	}
	for resource, holder := range map[string]string{"a": "b", "b": "a", "c": "d", "d": "e", "e": "c", "f": "a", "g": "h"} {
		wants("userName", resource, holder)
	}
	wants("emails.value", "a", "h") // of another attribute
	open, longest := c.take()
	var names []string
	for _, b := range open {
		names = append(names, b.change.ResourceID)
	}
	assert.Equal(t, []string{"a", "c"}, names, "who waits for somebody in a circle is helped by it, and who waits for one outside is not")
	assert.Equal(t, 3, longest)
	open, _ = c.take()
	assert.Empty(t, open, "each pass looks anew")
}

func TestAPassingValueIsOfTheSameForm(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "passing-r1@halvard.example", passing("r-1", "mira@halvard.example"))
	assert.Equal(t, "passing-r1", passing("r1", "mira"))
	assert.Equal(t, "passing-r1", passing("r1", nil))
	long := passing("0123456789abcdef0123456789abcdef0123456789abcdef", "m@x.example")
	assert.LessOrEqual(t, len(long), 40+len("@x.example"))
}
