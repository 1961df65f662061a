package settings

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestFilesOfOlderVersionsAreReadAsTheyMeant holds that a key that was renamed
// still counts, in block and flow form, and that it is told.
func TestFilesOfOlderVersionsAreReadAsTheyMeant(t *testing.T) {
	t.Parallel()
	directories := "directories:\n  - {name: halvard, dialect: ad, base: 'DC=halvard,DC=example', containers: {include: ['DC=halvard,DC=example']}}\n"
	for name, text := range map[string]string{
		"block form":    directories + "users:\n  # who is who\n  join:\n    - name: same number\n      from: employeeNumber\n  leavers: suspend\n",
		"flow form":     directories + "users: {leavers: suspend, 'join': [{name: same number, from: employeeNumber}]}\n",
		"after a ø":     directories + "users: {leavers: suspend, carriedId: 'ø', join: [{name: same number, from: employeeNumber}]}\n",
		"the other way": directories + "users:\n  \"join\": [{name: same number, from: employeeNumber}]\n",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			document, err := Read([]byte(text))
			require.NoError(t, err)
			assert.Equal(t, []PersonRule{{Name: "same number", From: "employeeNumber"}}, document.Users.Person)
			modern, notes := Modern([]byte(text))
			require.Len(t, notes, 1, string(modern))
			assert.Contains(t, notes[0], "users.join is called users.person now")
			again, notes := Modern(modern)
			assert.Empty(t, notes)
			assert.Equal(t, string(modern), string(again))
		})
	}
	_, err := Read([]byte(directories + "users: {join: [], person: []}\n"))
	require.Error(t, err, "which of the two is meant is not known")
	_, notes := Modern([]byte("join: x\nusers: [join]\n"))
	assert.Empty(t, notes)
}
