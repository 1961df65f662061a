package entry

import (
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var names = []string{
	"CN=Ada Lind,OU=Fleet,DC=example", "cn=a", " cn = a b  , dc=x ", `CN=O'Neil\, \"B\",DC=example`, `CN=a\2cb+uid=7,DC=x`, `CN=tail\ ,DC=x`, `CN=\ lead,DC=x`, `CN=a\\,DC=x`, `OU=x\+y;DC=z`,
	`CN=\C3\98rn,DC=x`, `CN=Ø,DC=x`, `1.2.3=#0403616263,DC=x`, "CN=a=b,DC=x", "CN=,DC=x", "CN=a,,DC=x", "CN", "=a", "CN=a,", `CN=a\`, `CN=a\zz`, `CN="a",DC=x`, "CN=a<b", "CN=#zz", "C N=a", "CN=a,DC=x,",
	`CN=x\0aDEL:1\,2,DC=x`, `CN=a\ff,DC=x`, "cn=#", `CN=ab\ \ ,DC=x`, `CN=a\\\\ ,DC=x`,
}

// alike compares with a public library, which reads names more loosely in places.
func alike(t *testing.T, text string) {
	t.Helper()
	want, wantErr := ldap.ParseDN(text)
	got, err := parseRDNs(text)
	if wantErr != nil || err != nil {
		if err == nil {
			assert.Error(t, err, "%q: the library says %v", text, wantErr)
		}
		return
	}
	require.Len(t, got, len(want.RDNs), text)
	for i, rdn := range want.RDNs {
		require.Len(t, got[i], len(rdn.Attributes), text)
		for j, attribute := range rdn.Attributes {
			assert.Equal(t, attribute.Value, got[i][j].value, text)
		}
	}
}

func TestNamesAreReadAsALibraryReadsThem(t *testing.T) {
	t.Parallel()
	for _, text := range names {
		alike(t, text)
	}
	got, err := parseRDNs(`1.2.3=#0403616263+cn=a\2cb,DC=x`)
	require.NoError(t, err)
	assert.Equal(t, [][]pair{{{"1.2.3", "abc"}, {"cn", "a,b"}}, {{"DC", "x"}}}, got)
	for _, text := range []string{"CN", "=a", "CN=a,", `CN=a\`, `CN=a\zz`, `CN="a"`, "CN=#04", "CN=#0461626364", "C N=a", "C,N=a"} {
		_, err := parseRDNs(text)
		assert.Error(t, err, text)
	}
}

func FuzzNames(f *testing.F) {
	for _, text := range names {
		f.Add(text)
	}
	f.Fuzz(func(_ *testing.T, text string) {
		_, _ = parseRDNs(text) // never panics
	})
}
