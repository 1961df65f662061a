package entry

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseIDsReadsEveryForm(t *testing.T) {
	t.Parallel()
	id, err := NewID("fbbaf9cb-2b8e-40c6-ad6f-b373e46aa78d")
	require.NoError(t, err)
	for name, form := range id.Forms() {
		ids, err := ParseIDs(form)
		require.NoError(t, err, name)
		assert.Contains(t, ids, id, name)
	}
	ids, err := ParseIDs("{FBBAF9CB-2B8E-40C6-AD6F-B373E46AA78D}")
	require.NoError(t, err)
	assert.Equal(t, []ID{id}, ids)
	again, err := IDFromObjectGUID(id.ObjectGUID())
	require.NoError(t, err)
	assert.Equal(t, id, again)
	for _, text := range []string{"", "ada", "fbbaf9cb2b8e40c6ad6fb373e46aa7", "aGVsbG8="} {
		_, err := ParseIDs(text)
		assert.ErrorIs(t, err, ErrNoID, text)
	}
}

func TestPathsTellWhatLiesBelowWhat(t *testing.T) {
	t.Parallel()
	path := func(text string) string {
		dn, err := ParseDN(text)
		require.NoError(t, err)
		return dn.Path()
	}
	fleet := path("OU=Fleet,DC=halvard,DC=example")
	assert.True(t, PathUnder(path("cn=Ada, ou=fleet, dc=HALVARD,dc=example"), fleet))
	assert.True(t, PathUnder(fleet, fleet))
	assert.False(t, PathUnder(path("OU=Fleet 2,DC=halvard,DC=example"), fleet))
	assert.False(t, PathUnder(path(`CN=x\,OU=Fleet,DC=halvard,DC=example`), fleet), "an escaped comma separates nothing")
	assert.False(t, PathUnder(path(`CN=a/b,DC=halvard,DC=example`), path("CN=a,DC=halvard,DC=example")))
	for _, text := range []string{`cn=a\,b+uid=x/y,ou=fleet,dc=example`, "dc=example"} {
		assert.Equal(t, path(text), path(NameOfPath(path(text))), "a path leads back to a name with the same path")
	}
	for _, text := range []string{"", "Fleet", "OU=Fleet,", "OU=a\\zz"} {
		_, err := ParseDN(text)
		assert.Error(t, err, text)
	}
}

func TestPathGetsSetsAndRemoves(t *testing.T) {
	t.Parallel()
	var r Resource
	require.NoError(t, json.Unmarshal([]byte(`{"userName":"ada","name":{"givenName":"Ada"},
	  "emails":[{"type":"home","value":"a@home.example"},{"type":"work","value":"a@halvard.example"}],
	  "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"department":"Deck"}}`), &r))
	for text, want := range map[string]any{
		"userName":                     "ada",
		"USERNAME":                     "ada",
		"name.givenName":               "Ada",
		"title":                        nil,
		`emails[type eq "work"].value`: "a@halvard.example",
		`emails[type eq "x"].value`:    nil,
		"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department": "Deck",
		"urn:example:none:department":                                           nil,
	} {
		path, err := ParsePath(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, path.Get(r), text)
	}
	work := MustPath(`emails[type eq "work"].value`)
	work.Remove(r)
	assert.Nil(t, work.Get(r))
	assert.Equal(t, []string{"a@home.example"}, r.Addresses())
	work.Set(r, "new@halvard.example")
	assert.Equal(t, "new@halvard.example", work.Get(r))
	extension := MustPath("urn:example:ferries:Ship:deck")
	extension.Set(r, "B")
	assert.Equal(t, "B", extension.Get(r))
	for _, text := range []string{"", "a b", "emails[type eq work].value", `emails[type eq "work"]`, "a.b.c", "urn:x"} {
		_, err := ParsePath(text)
		assert.Error(t, err, text)
	}
}

func TestPathOfIsThePathOfTheParsedName(t *testing.T) {
	t.Parallel()
	for _, text := range []string{
		"CN=Ada Lind,OU=Deck, OU=Fleet ,DC=corp,DC=halvard,DC=example", "dc=example", `cn=a\,b,dc=example`, "cn=a+uid=b,dc=example", "CN=Åse,DC=x", "cn = x , dc = y", "cn=a=b,dc=x", `cn="a",dc=x`, "cn=#6162,dc=x",
		"cn=,dc=x", "cn=a,,dc=x", ",cn=a", "cn=a,", "", "=a", "cn", "1.2.3=a,dc=x", "c1=a,dc=x", "cn=a  b,dc=x", "cn=a/b,dc=x", " cn=a,dc=x ", "cn=a\t,dc=x", "\tcn=a,dc=x",
	} {
		dn, wrong := ParseDN(text)
		path, err := PathOf(text)
		if wrong != nil {
			assert.Error(t, err, text)
			continue
		}
		assert.NoError(t, err, text)
		assert.Equal(t, dn.Path(), path, text)
	}
}

func BenchmarkPathOf(b *testing.B) {
	for b.Loop() {
		_, _ = PathOf("CN=Ada Lind,OU=Deck,OU=Fleet,DC=corp,DC=halvard,DC=example")
	}
}

func FuzzParseDN(f *testing.F) {
	f.Add(`CN=a\,b+UID=x,DC=example`)
	f.Fuzz(func(t *testing.T, text string) {
		dn, err := ParseDN(text)
		if err == nil {
			require.True(t, PathUnder(dn.Path(), dn.Path()))
			path, err := PathOf(text)
			require.NoError(t, err)
			require.Equal(t, dn.Path(), path)
		}
	})
}
