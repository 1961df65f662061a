package standin

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/protocol/events"
)

// TestADigestServesOnePersonAndIsNeverOlder puts in place of somebody's digest what is not
// theirs, what was sealed for another, and what was theirs before.
func TestADigestServesOnePersonAndIsNeverOlder(t *testing.T) {
	t.Parallel()
	s, err := New(Options{Token: "t", Domains: []string{"halvard.example"}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.store.close() })
	ada := person{id: "1", directory: "halvard", entry: "e1"}
	sealed := func(key jose.JSONWebKey, entry string, made int64) string {
		encrypter, err := jose.NewEncrypter(jose.A256GCM, jose.Recipient{Algorithm: jose.ECDH_ES_A256KW, Key: key.Public().Key}, nil)
		require.NoError(t, err)
		bound, err := json.Marshal(events.DigestBinding{Directory: "halvard", Entry: entry, Made: made})
		require.NoError(t, err)
		one, err := encrypter.EncryptWithAuthData([]byte("$argon2id$v=19$m=64,t=1,p=1,inner=plain$c2FsdHNhbHQ$AAAA"), bound)
		require.NoError(t, err)
		return one.FullSerialize()
	}
	other, err := newSealKey()
	require.NoError(t, err)
	digest, f := s.unseal(ada, sealed(s.sealKey, "e1", 7))
	require.Nil(t, f, fmt.Sprint(f))
	require.NoError(t, s.people.setDigest(ada.id, digest))
	for name, text := range map[string]string{
		"of somebody else": sealed(s.sealKey, "e2", 8), "for another cloud": sealed(other, "e1", 8), "the same again": sealed(s.sealKey, "e1", 7), "an older one": sealed(s.sealKey, "e1", 6), "nothing sealed": "x",
	} {
		_, f := s.unseal(ada, text)
		assert.NotNil(t, f, name)
	}
	require.NoError(t, s.people.setDigest(ada.id, kept{}))
	_, f = s.unseal(ada, sealed(s.sealKey, "e1", 7))
	assert.NotNil(t, f, "one that was withdrawn does not come back")
	for _, text := range []string{"", "$argon2id$v=19$m=64,t=1,p=1,inner=other$c2FsdA$AAAA", "$argon2id$v=19$m=x,t=1,p=1$c2FsdA$AAAA", "$argon2id$v=19$m=64,t=1,p=1,inner=plain$c2FsdA$"} {
		assert.False(t, kept{Digest: text}.signs("x"), text)
	}
}
