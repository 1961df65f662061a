package directory

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
)

func TestEntriesAreReadFromLDIF(t *testing.T) {
	t.Parallel()
	const person = "dn: cn=Ada,dc=brisling,dc=example\nobjectClass: inetOrgPerson\nsn: Lind\ndescription:\ndisplayName:: w4VzZQ==\n"
	entries, err := FromLDIF(person+"entryUUID: 6b61ffc2-818a-1041-994b-ef41b09bdf70\n\ndn: cn=Crew,dc=brisling,dc=example\nobjectClass: groupOfNames\nmember: cn=Ada,dc=brisling,\n dc=example\n\ndn: cn=desk,dc=brisling,dc=example\nobjectClass: computer\n", "brisling")
	require.NoError(t, err)
	require.Len(t, entries, 2, "what is neither a person, a group nor a contact is left out")
	assert.Equal(t, "6b61ffc2-818a-1041-994b-ef41b09bdf70", entries[0].ID.String())
	assert.Equal(t, "brisling", entries[0].Directory)
	assert.Equal(t, "Åse", entries[0].Attributes.First("displayName"))
	assert.Empty(t, entries[0].Attributes.All("description"))
	assert.Equal(t, entry.Group, entries[1].Kind)
	assert.Equal(t, []string{"cn=Ada,dc=brisling,dc=example"}, entries[1].Members, "and lines are folded")
	assert.NotEqual(t, entry.ID{}, entries[1].ID, "of its name")
	for text, fault := range map[string]string{
		person + "jpegPhoto:< file:///etc/passwd\n":                     "from another file",
		"dn: cn=Ada,dc=example\nchangetype: delete\n":                   "record 1 is a change",
		person + "entryUUID: nonsense\n":                                "its id cannot be read",
		person + "\n" + person:                                          "has the id of",
		"objectClass: person\n":                                         "no LDIF",
		"dn: cn=A,dc=example\nobjectClass: person\nobjectGUID:: AAAA\n": "its id cannot be read",
	} {
		_, err := FromLDIF(text, "brisling")
		assert.ErrorContains(t, err, fault, text)
	}
}

func FuzzLDIF(f *testing.F) {
	f.Add("dn: cn=A,dc=example\nobjectClass: group\nmember;range=0-1: cn=B\n")
	f.Add("version: 1\n\ndn:: Zm9v\nobjectClass: person\n")
	f.Fuzz(func(t *testing.T, text string) {
		entries, err := FromLDIF(text, "brisling")
		if err == nil {
			for _, e := range entries {
				assert.NotEqual(t, entry.ID{}, e.ID)
			}
		}
	})
}
