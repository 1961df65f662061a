package match

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kambrel.example/kambrel/core/entry"
)

func TestLikenessFindsTheSamePersonCrosswise(t *testing.T) {
	t.Parallel()
	const enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	address := func(value string) []any { return []any{map[string]any{"type": "work", "value": value}} }
	wanted := LikenessOf(entry.Resource{"userName": "mt@halvard.example", "emails": address("mira.tangen@halvard.example"), "displayName": "Mira Tangen", enterprise: map[string]any{"employeeNumber": "4711"}})
	for name, in := range map[string]struct {
		resource entry.Resource
		alike    bool
	}{
		"its login is the address":      {entry.Resource{"userName": "Mira.Tangen@halvard.example"}, true},
		"its address is the login":      {entry.Resource{"userName": "x@halvard.example", "emails": address("MT@halvard.example")}, true},
		"the names, in parts":           {entry.Resource{"userName": "x@halvard.example", "name": map[string]any{"givenName": "mira", "familyName": "TANGEN"}}, true},
		"the number":                    {entry.Resource{"userName": "x@halvard.example", enterprise: map[string]any{"employeeNumber": "4711"}}, true},
		"a name of one word is no name": {entry.Resource{"userName": "x@halvard.example", "displayName": "Mira"}, false},
		"somebody else":                 {entry.Resource{"userName": "y@halvard.example", "displayName": "Jon Sletta"}, false},
	} {
		l := LikenessOf(in.resource)
		indexed := append(l.Indexed(), KeyText(entry.User, "userName", l.Login))
		for _, address := range l.Addresses {
			indexed = append(indexed, KeyText(entry.User, "emails.value", address))
		}
		alike := false
		for _, key := range wanted.Keys() {
			for _, text := range indexed {
				alike = alike || key.Text() == text
			}
		}
		assert.Equal(t, in.alike, alike, name)
	}
}
