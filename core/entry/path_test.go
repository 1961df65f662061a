package entry

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func decoded(t *testing.T, text string) Resource {
	t.Helper()
	var r Resource
	require.NoError(t, json.Unmarshal([]byte(text), &r))
	return r
}

// TestNamesAreTheSameWhateverTheirCase: a service may write names its own way
// (RFC 7643 section 2.1); no second attribute comes beside its own.
func TestNamesAreTheSameWhateverTheirCase(t *testing.T) {
	t.Parallel()
	const enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	theirs := `{"Title":"Mate","NAME":{"GivenName":"Ada"},"Emails":[{"Type":"Work","Value":"a@halvard.example"}],"Roles":[{"Value":"x"}],"` + strings.ToUpper(enterprise) + `":{"Department":"Deck"}}`
	for path, after := range map[string]string{
		"title":                        `{"Title":"new","NAME":{"GivenName":"Ada"},"Emails":[{"Type":"Work","Value":"a@halvard.example"}],"Roles":[{"Value":"x"}],"` + strings.ToUpper(enterprise) + `":{"Department":"Deck"}}`,
		"name.givenName":               strings.Replace(theirs, `"Ada"`, `"new"`, 1),
		`emails[type eq "work"].value`: strings.Replace(theirs, `a@halvard.example`, `new`, 1),
		enterprise + ":department":     strings.Replace(theirs, `"Deck"`, `"new"`, 1),
	} {
		t.Run(path, func(t *testing.T) {
			r := decoded(t, theirs)
			MustPath(path).Set(r, "new")
			assert.Equal(t, decoded(t, after), r)
			MustPath(path).Remove(r)
			assert.Nil(t, MustPath(path).Get(r), "and is gone when it is removed")
		})
	}
	r := decoded(t, theirs)
	MustPath("roles").AddElement(r, map[string]any{"value": "y"})
	assert.Equal(t, []string{"x", "y"}, MustPath("roles").Values(r))
	MustPath("roles").RemoveValue(r, "x")
	assert.Equal(t, []string{"y"}, MustPath("roles").Values(r))
	assert.NotContains(t, r, "roles", "beside Roles")
}

// FuzzParsePath: what is a path writes itself the same, and what is set there is
// found there and nowhere once it is removed.
func FuzzParsePath(f *testing.F) {
	for _, text := range []string{
		"title", "name.givenName", `emails[type eq "work"].value`, "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager.value",
		`addresses[type eq "x\"y"].locality`, "a.b.c", "urn:", "[", `emails[type eq ""].value`, "emails.", ".value", `urn:x:y[z eq "1"].w`,
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		path, err := ParsePath(text)
		if err != nil {
			assert.NotEmpty(t, err.Error())
			return
		}
		again, err := ParsePath(path.String())
		require.NoError(t, err)
		require.Equal(t, path.Key(), again.Key())
		r := Resource{}
		path.Set(r, "v")
		require.Equal(t, "v", path.Get(r), text)
		require.Equal(t, "v", again.Get(r), text)
		copied, err := r.Clone()
		require.NoError(t, err)
		path.Remove(copied)
		require.Nil(t, path.Get(copied), text)
	})
}

func TestWhatPeopleCallAnEntry(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		attributes Attributes
		want       string
	}{
		"its displayed name first": {Attributes{"displayName": {"Ada Lind"}, "cn": {"ada"}, "uid": {"al"}}, "Ada Lind"},
		"not a blank one":          {Attributes{"displayName": {" "}, "cn": {" ada "}}, "ada"},
		"a login":                  {Attributes{"uid": {"al"}}, "al"},
		"else the whole name":      {Attributes{}, "CN=x,DC=example"},
	} {
		assert.Equal(t, c.want, Entry{DN: "CN=x,DC=example", Attributes: c.attributes}.Name(), name)
	}
}
