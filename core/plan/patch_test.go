package plan

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/rules"
)

// TestPatchOfElements changes parts of addresses; locality and streetAddress
// have rules.
func TestPatchOfElements(t *testing.T) {
	t.Parallel()
	const work = `addresses[type eq \"work\"]`
	street, locality := `addresses[type eq "work"].streetAddress`, `addresses[type eq "work"].locality`
	for _, c := range []struct {
		name, resource string
		desired        []rules.Value
		operations     string
		after          string
	}{
		{"two parts of an element that is not there come as one element", `{}`,
			[]rules.Value{value(street, "Quay 1"), value(locality, "Vik")},
			`[{"op":"add","path":"addresses","value":[{"type":"work","streetAddress":"Quay 1","locality":"Vik"}]}]`,
			`{"addresses":[{"type":"work","streetAddress":"Quay 1","locality":"Vik"}]}`},
		{"a part beside one that is there", `{"addresses":[{"type":"work","postalCode":"1"}]}`,
			[]rules.Value{value(street, "Quay 1"), value(locality, nil)},
			`[{"op":"replace","path":"` + work + `.streetAddress","value":"Quay 1"}]`,
			`{"addresses":[{"type":"work","postalCode":"1","streetAddress":"Quay 1"}]}`},
		{"a part goes, what others own stays", `{"addresses":[{"type":"work","postalCode":"1","locality":"Vik"}]}`,
			[]rules.Value{value(street, nil), value(locality, nil)},
			`[{"op":"remove","path":"` + work + `.locality"}]`,
			`{"addresses":[{"type":"work","postalCode":"1"}]}`},
		{"with its last part the element goes", `{"addresses":[{"type":"work","locality":"Vik","streetAddress":"Quay 1"},{"type":"home","locality":"Nes"}]}`,
			[]rules.Value{value(street, nil), value(locality, nil)},
			`[{"op":"remove","path":"` + work + `.streetAddress"},{"op":"remove","path":"` + work + `"}]`,
			`{"addresses":[{"type":"home","locality":"Nes"}]}`},
		{"one part goes and another comes", `{"addresses":[{"type":"work","streetAddress":"Quay 1"}]}`,
			[]rules.Value{value(street, nil), value(locality, "Vik")},
			`[{"op":"remove","path":"` + work + `"},{"op":"add","path":"addresses","value":[{"type":"work","locality":"Vik"}]}]`,
			`{"addresses":[{"type":"work","locality":"Vik"}]}`},
		{"an address that loses its value goes with all that was said of it", `{"emails":[{"type":"work","value":"a@halvard.example","display":"A","primary":true}]}`,
			[]rules.Value{value(`emails[type eq "work"].value`, nil)},
			`[{"op":"remove","path":"emails[type eq \"work\"]"}]`, `{}`},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := resource(t, c.resource)
			decision := Compare(r, desired(c.desired...), nil)
			operations, err := change.Patch(r, decision.Diffs)
			require.NoError(t, err)
			assert.Equal(t, resource(t, c.resource), r, "the resource is only read")
			text, err := json.Marshal(operations)
			require.NoError(t, err)
			assert.JSONEq(t, c.operations, string(text))
			require.NoError(t, change.Advance(r, decision.Diffs))
			assert.Equal(t, resource(t, c.after), r)
			assert.Empty(t, Compare(r, desired(c.desired...), nil).Diffs, "in step then")
		})
	}
}
