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
	for _, dialect := range []Dialect{AD, Standard} {
		for _, form := range id.Forms(dialect) {
			ids, err := ParseIDs(form.Text)
			require.NoError(t, err, form.Name)
			assert.Contains(t, ids, id, form.Name)
		}
	}
	assert.Contains(t, id.Forms(Standard), Form{"nsUniqueId", "fbbaf9cb-2b8e40c6-ad6fb373-e46aa78d"})
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
	for _, text := range []string{
		`cn=Lind\2C Ada,ou=fleet,dc=example`, `CN = Lind\, Ada , OU = Fleet , DC = example`, `2.5.4.3=Lind\, Ada,OU=Fleet,DC=example`,
		`OID.2.5.4.3=Lind\, Ada,2.5.4.11=Fleet,0.9.2342.19200300.100.1.25=example`, `commonName=Lind\, Ada,organizationalUnitName=Fleet,domainComponent=example`,
		`CN=#13094C696E642C20416461,OU=Fleet,DC=example`, `CN=Lind\,  Ada,OU=Fleet,DC=example`,
	} {
		assert.True(t, SameDN(`CN=Lind\, Ada,OU=Fleet,DC=example`, text), text)
	}
	assert.True(t, SameDN("cn=Ada+uid=b,dc=x", "uid=B+cn=ada,dc=x"), "the order of parts says nothing")
	assert.False(t, SameDN("cn=Ada,ou=a,dc=x", "cn=Ada,l=a,dc=x"))
	for _, text := range []string{"ou=Crew  Mess,dc=x", "organizationalUnitName=Crew Mess,dc=x"} {
		plain, err := PathOf(text)
		require.NoError(t, err)
		assert.Equal(t, path(text), plain, "both ways to a path agree")
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
