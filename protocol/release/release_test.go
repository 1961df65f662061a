package release_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/fingerprint"
	"kambrel.example/kambrel/protocol/release"
)

func TestAStatementIsOfItsKeyAndNoOther(t *testing.T) {
	t.Parallel()
	key, err := release.NewKey()
	require.NoError(t, err)
	signed := release.Release{Version: "1.2.3-rc.1", Made: 1_700_000_000, Files: []release.File{release.FileOf("linux-amd64", "agent", []byte("program"))}}
	statement, err := release.Sign(key, signed)
	require.NoError(t, err)
	got, err := release.Verify(statement+"\n", key.Public())
	require.NoError(t, err)
	assert.Equal(t, signed, got)
	print, err := fingerprint.OfKey(key.Public())
	require.NoError(t, err)
	_, by, err := release.Read(statement)
	require.NoError(t, err)
	assert.Equal(t, print, by)

	other, err := release.NewKey()
	require.NoError(t, err)
	_, err = release.Verify(statement, other)
	assert.ErrorContains(t, err, "not signed by the key")
	_, err = release.Sign(key.Public(), signed)
	assert.ErrorContains(t, err, "public half")

	// Something else that the same key has signed.
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: key.Key}, nil)
	require.NoError(t, err)
	text, err := json.Marshal(signed)
	require.NoError(t, err)
	jws, err := signer.Sign(text)
	require.NoError(t, err)
	untyped, err := jws.CompactSerialize()
	require.NoError(t, err)
	for _, bad := range []string{"", "a.b", untyped, strings.Repeat("a", release.MostStatement+1)} {
		_, err := release.Verify(bad, key)
		assert.Error(t, err)
	}
}

func TestAReleaseOfNoFormIsNotSigned(t *testing.T) {
	t.Parallel()
	key, err := release.NewKey()
	require.NoError(t, err)
	file := release.FileOf("linux-amd64", "agent", []byte("program"))
	shaped := func(edit func(*release.File)) []release.File {
		changed := file
		edit(&changed)
		return []release.File{changed}
	}
	for fault, bad := range map[string]release.Release{
		`"v1.2.3" is no version`:      {Version: "v1.2.3", Files: []release.File{file}},
		`"1.2" is no version`:         {Version: "1.2", Files: []release.File{file}},
		`"../1.2.3" is no version`:    {Version: "../1.2.3", Files: []release.File{file}},
		"1 to 20 platforms":           {Version: "1.2.3"},
		"stands twice":                {Version: "1.2.3", Files: []release.File{file, file}},
		`"../amd64" is no platform`:   {Version: "1.2.3", Files: shaped(func(f *release.File) { f.Platform = "../amd64" })},
		"has 0 bytes":                 {Version: "1.2.3", Files: shaped(func(f *release.File) { f.Size = 0 })},
		"the SHA-256 of the program":  {Version: "1.2.3", Files: shaped(func(f *release.File) { f.SHA256 = "12" })},
		`"linux/amd64" is no platfor`: {Version: "1.2.3", Files: shaped(func(f *release.File) { f.Platform = "linux/amd64" })},
	} {
		_, err := release.Sign(key, bad)
		assert.ErrorContains(t, err, fault)
	}
	assert.True(t, release.Newer("1.10.0", "1.9.0"))
	assert.False(t, release.Newer("1.0.0-rc.1", "1.0.0"))
	assert.False(t, release.Newer("nonsense", "0.1.0"))
}
