package entry

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNamesAreReadInAnyLetterCase(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ sent, read string }{
		"as the standard writes them": {`{"id":"1","userName":"a","meta":{"version":"W/1"}}`, `{"id":"1","userName":"a","meta":{"version":"W/1"}}`},
		"capital letters": {`{"Id":"1","EXTERNALID":"k","Meta":{"LastModified":"x"},"Emails":[{"Value":"a@b.example","TYPE":"work"}]}`,
			`{"id":"1","externalId":"k","meta":{"lastModified":"x"},"emails":[{"value":"a@b.example","type":"work"}]}`},
		"an extension": {`{"URN:ietf:params:scim:schemas:extension:enterprise:2.0:user":{"MANAGER":{"VALUE":"m"}}}`,
			`{"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"manager":{"value":"m"}}}`},
		"the standard's own wins":     {`{"Title":"old","title":"new"}`, `{"title":"new"}`},
		"what is not known stays":     {`{"favouriteColour":"green","X":1}`, `{"favouriteColour":"green","X":1}`},
		"a reference alone":           {`{"members":[{"$ref":"https://c.example/scim/v2/Users/a%2Fb"},{"$ref":"../Users/2/"},{"value":"3","$ref":"x/9"}]}`, `{"members":[{"$ref":"https://c.example/scim/v2/Users/a%2Fb","value":"a/b"},{"$ref":"../Users/2/","value":"2"},{"value":"3","$ref":"x/9"}]}`},
		"active as text":              {`{"active":"False"}`, `{"active":false}`},
		"active as text, in capitals": {`{"ACTIVE":"TRUE"}`, `{"active":true}`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var r Resource
			require.NoError(t, json.Unmarshal([]byte(c.sent), &r))
			text, err := json.Marshal(Canonical(r))
			require.NoError(t, err)
			assert.JSONEq(t, c.read, string(text))
		})
	}
}

func TestAPathNamesTextsOfAllElements(t *testing.T) {
	t.Parallel()
	var r Resource
	require.NoError(t, json.Unmarshal([]byte(`{"userName":"a","emails":[{"value":"x"},{"value":"y","display":"Y"}],"name":{"familyName":"B"}}`), &r))
	for path, want := range map[string][]string{
		"userName": {"a"}, "emails.value": {"x", "y"}, "emails": {"x", "y"}, "emails.display": {"Y"}, "name.familyName": {"B"}, "title": nil, "phoneNumbers.value": nil,
	} {
		assert.Equal(t, want, MustPath(path).Texts(r), path)
	}
}

// A path is kept by PostgreSQL, which takes neither NUL nor what is no UTF-8.
func TestThePathOfAnyNameIsText(t *testing.T) {
	t.Parallel()
	seen := map[string]string{}
	for _, name := range []string{`cn=Nul\00Person,dc=example`, `cn=NulPerson,dc=example`, `cn=One\01Person,dc=example`, `cn=Bad\ffPerson,dc=example`, `cn=Bad\fePerson,dc=example`} {
		path, err := PathOf(name)
		require.NoError(t, err, name)
		assert.NotContains(t, path, "\x00")
		assert.NotContains(t, path, "\x01")
		text, err := json.Marshal(path)
		require.NoError(t, err)
		assert.NotContains(t, string(text), `\ufffd`, "bytes that are no text are told apart")
		assert.Empty(t, seen[path], "%s and %s have one path", name, seen[path])
		seen[path] = name
	}
}
