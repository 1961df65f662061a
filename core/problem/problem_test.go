package problem

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/about"
)

func TestEveryKindIsComplete(t *testing.T) {
	t.Parallel()
	seen := map[Code]bool{}
	for _, kind := range Catalogue() {
		assert.False(t, seen[kind.Code], "%s stands twice", kind.Code)
		seen[kind.Code] = true
		assert.NotEmpty(t, kind.Title, kind.Code)
		assert.NotEmpty(t, kind.Cause, kind.Code)
		assert.NotEmpty(t, kind.Remedy, kind.Code)
	}
}

func TestCodeOfLooksThroughWrapping(t *testing.T) {
	t.Parallel()
	cause := errors.New("connection refused")
	err := fmt.Errorf("run 7: %w", Wrap(CloudUnreachable, cause, "read resources"))
	assert.Equal(t, CloudUnreachable, CodeOf(err))
	assert.ErrorIs(t, err, cause)
	assert.Equal(t, "run 7: The cloud cannot be reached: read resources: connection refused", err.Error())
	assert.Empty(t, CodeOf(cause))
}

// TestTextsAreMadeOfTheFacts has a sentence for each code that has facts.
func TestTextsAreMadeOfTheFacts(t *testing.T) {
	t.Parallel()
	key := Facts{Rule: "same login", Attribute: "userName", Value: "bo@halvard.example"}
	with := func(of Facts, resources ...Resource) Facts {
		of.Resources = resources
		return of
	}
	free := Resource{ID: "r1", Name: "bo"}
	owned := Resource{ID: "r1", Name: "bo", Owner: &Entry{Name: "CN=Bo", Gone: true}}
	for name, c := range map[string]struct {
		code  Code
		facts Facts
		want  string
	}{
		"taken by an entry":          {DuplicateLogin, Facts{Attribute: "userName", Value: "bo", Entries: []Entry{{Name: "CN=Bo"}}}, "userName = bo is also that of CN=Bo"},
		"taken in the cloud":         {DuplicateAddress, with(Facts{Attribute: "emails.value", Value: "b@x"}, free), "emails.value = b@x is also that of the resource bo (r1) in the cloud"},
		"taken by whom it belongs":   {DuplicateName, with(Facts{Attribute: "displayName", Value: "b"}, owned), "displayName = b is also that of the resource bo (r1) in the cloud, which belongs to CN=Bo"},
		"only the cloud's word":      {DuplicateLogin, Facts{Answer: "409: taken"}, "409: taken"},
		"belongs to a deleted entry": {LinkConflict, with(key, owned), "by same login (userName = bo@halvard.example) the resource bo (r1) fits, but it belongs to CN=Bo, which was deleted from its directory"},
		"bears another key":          {LinkConflict, with(key, Resource{ID: "r1", Name: "bo", LinkKey: "k"}), "by same login (userName = bo@halvard.example) the resource bo (r1) fits, but it bears the link key k"},
		"decided by hand":            {LinkConflict, with(Facts{By: "ingrid"}, owned), "ingrid decided for the resource bo (r1), but it belongs to CN=Bo, which was deleted from its directory"},
		"wanted by two entries":      {LinkConflict, Facts{Entries: []Entry{{Name: "CN=Bo"}}, Resources: []Resource{{ID: "r1"}}}, "the resource r1 is also that of CN=Bo"},
		"several fit":                {AmbiguousMatch, with(key, free, Resource{ID: "r2"}), "by same login (userName = bo@halvard.example) these resources fit: bo (r1), r2"},
		"protected":                  {ProtectedResource, with(key, Resource{ID: "r1", Roles: []string{"owner", "auditor"}}), "by same login (userName = bo@halvard.example) the resource r1 fits, and it has the role owner, auditor"},
		"alike":                      {NearMiss, with(Facts{}, Resource{ID: "r1", Alike: "same number", Value: "7"}), "r1: same number, 7"},
		"suffix":                     {LoginSuffix, Facts{Value: "bo@corp.example", Domains: []string{"halvard.example"}}, "bo@corp.example ends in corp.example; verified are halvard.example"},
		"nothing to read":            {RequiredMissing, Facts{Attribute: "userName"}, "userName would be empty: the rule gives nothing for this entry"},
		"attributes missing":         {RequiredMissing, Facts{Attribute: "userName", Lacks: []string{"mail", "uid"}}, "userName would be empty: the entry has no mail, uid"},
		"formula":                    {FormulaFailed, Facts{Attribute: "title", Answer: "no such key"}, "the formula for title: no such key"},
		"altered":                    {ValueAltered, Facts{Altered: []Altered{{"title", "Mate", "M"}}}, "title: Mate was sent, M is kept"},
		"two resources":              {PersonTwoResources, Facts{Rule: "same number", Entries: []Entry{{Name: "CN=Bo"}}, Resources: []Resource{{ID: "r1"}, {ID: "r2"}}}, "by same number it is one person with CN=Bo, which is linked to the resource r1; this entry is linked to r2"},
		"held with what hangs on":    {RemovalsHeld, Facts{Value: "7", Count: 24, Hanging: 3}, "run 7 holds 24, and with them 3 memberships and references to them"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			assert.Equal(t, c.want, Of(c.code, c.facts).Detail)
		})
	}
}

func TestWhatAProblemIsAboutIsSaidOnce(t *testing.T) {
	t.Parallel()
	halvard, other := about.Thing{Type: about.Directory, Key: "halvard"}, about.Thing{Type: about.Directory, Key: "brisling"}
	p := New(DirectoryUnreachable, "no route")
	err := Concerning(other, fmt.Errorf("read: %w", Concerning(halvard, p)))
	assert.ErrorIs(t, err, p)
	assert.Equal(t, halvard, p.About, "who met it knows best")
	assert.NoError(t, Concerning(halvard, nil))
}

// TestTheConsoleHasTheCatalogueInItsLanguages: the console shows these sentences, and has
// them in other languages by what they are here.
func TestTheConsoleHasTheCatalogueInItsLanguages(t *testing.T) {
	files, err := filepath.Glob("../../console/src/words/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		var words map[string]string
		require.NoError(t, json.Unmarshal(text, &words))
		for _, kind := range Catalogue() {
			for _, sentence := range []string{kind.Title, kind.Cause, kind.Remedy} {
				assert.NotEmpty(t, words[sentence], "%s lacks, of %s: %s", filepath.Base(file), kind.Code, sentence)
			}
		}
	}
}
