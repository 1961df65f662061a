package formula

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
)

func TestEveryExampleOfTheLibraryGivesWhatItSays(t *testing.T) {
	t.Parallel()
	sample := entry.Entry{DN: "CN=Ada Lind,OU=Deck,OU=Fleet,DC=example", Attributes: entry.Attributes{"cn": {"Ada Lind"}}}
	for _, function := range Library() {
		f, err := Compile(function.Example)
		require.NoError(t, err, function.Name)
		assert.Equal(t, function.Gives, f.Explain(sample).Value, function.Example)
	}
}

func TestGroupsAreAskedForOnlyWhereAFormulaReadsThem(t *testing.T) {
	t.Parallel()
	member := entry.Entry{AllGroups: []string{"CN=Crew,DC=example"}}
	f, err := Compile(`inGroup("cn=crew, dc=example") ? "crew" : "shore"`)
	require.NoError(t, err)
	assert.True(t, f.AsksForGroups())
	assert.Empty(t, f.Attributes())
	for want, e := range map[string]entry.Entry{"crew": member, "shore": {}} {
		value, err := f.Evaluate(e)
		require.NoError(t, err)
		assert.Equal(t, want, value)
	}
	f, err = Compile(`entry.cn`)
	require.NoError(t, err)
	assert.False(t, f.AsksForGroups())
}

func TestWhatAFunctionCannotReadIsAnErrorOfTheEntry(t *testing.T) {
	t.Parallel()
	for _, text := range []string{`flag(entry.cn, 2)`, `fileTime(entry.cn)`, `inGroup(entry.cn)`} {
		f, err := Compile(text)
		require.NoError(t, err, text)
		_, err = f.Evaluate(entry.Entry{Attributes: entry.Attributes{"cn": {"Ada"}}})
		assert.ErrorContains(t, err, `cn is ["Ada"]`, text)
	}
}
