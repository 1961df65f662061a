package password_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/password"
)

func ExampleInner_Digest() {
	stored, _ := password.UserPassword([]byte("{SSHA}W6ph5Mm5Pz8GgiULbPgzG37mj9hzYWx0"))
	fmt.Println(stored.Digest([]byte("sixteen octets!!"), password.Work{Memory: 64, Passes: 1, Lanes: 1}))
	// Output:
	// $argon2id$v=19$m=64,t=1,p=1,inner=ssha,innersalt=c2FsdA$c2l4dGVlbiBvY3RldHMhIQ$RBeyAkEGMoKYdkmHWZuOKqCke1vqy02FYs2CyEkvH5s
}

func TestStoredFormsAreTakenForWhatTheyAre(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"Otter-Bay-55": "plain", "{SHA}W6ph5Mm5Pz8GgiULbPgzG37mj9g=": "sha", "{ssha}W6ph5Mm5Pz8GgiULbPgzG37mj9hzYWx0": "ssha",
		"{SHA}c2hvcnQ=": "", "{SSHA}not base64": "", "{CRYPT}$6$abc": "", "{ARGON2}$argon2id$": "", "{": "",
	} {
		stored, err := password.UserPassword([]byte(text))
		if want == "" {
			require.ErrorIs(t, err, password.ErrScheme, text)
			assert.NotContains(t, err.Error(), "abc", "what is stored is not told")
			continue
		}
		require.NoError(t, err, text)
		assert.Equal(t, want, stored.Scheme)
	}
	_, err := password.NT([]byte("short"))
	require.ErrorIs(t, err, password.ErrScheme)
	nt, err := password.NT([]byte("sixteen octets!!"))
	require.NoError(t, err)
	one, other := nt.Digest([]byte("salt of a person"), password.Work{64, 1, 1}), nt.Digest([]byte("salt of somebody"), password.Work{64, 1, 1})
	assert.NotEqual(t, one, other)
	assert.True(t, strings.HasPrefix(one, "$argon2id$v=19$m=64,t=1,p=1,inner=nt$"), one)
}

func TestEveryReasonHasWordsForBoth(t *testing.T) {
	t.Parallel()
	for _, reason := range password.Reasons() {
		assert.NotEmpty(t, password.ForPerson(reason, 0), reason)
		assert.NotEmpty(t, password.Refuse(reason, "").Error(), reason)
	}
	assert.Contains(t, password.ForPerson(password.TooShort, 9), "at least 9 characters")
	assert.False(t, password.Known("made-up"))
}
