package settings_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
)

func TestExpectationsAreReadAndHeldToBeOfUse(t *testing.T) {
	text := `directories: [{name: halvard, dialect: standard, base: 'dc=halvard,dc=example', containers: {include: ['ou=Fleet,dc=halvard,dc=example']}}]
guard: {removals: 10}
schedule: {every: 'off'}
expect:
  - {entry: ada, in: true, values: {title: Mate, active: true, nickName: null}, note: why}
  - {entry: bo}
  - {entry: '', in: false}
  - {entry: cai, becomes: vanish}
  - {entry: dag, problem: no-such-code}
  - {entry: eli, values: {'emails[': x}}
`
	document, err := settings.Read([]byte(text))
	require.NoError(t, err)
	found := map[string]string{}
	for _, fault := range document.Validate() {
		found[fault.Path] = fault.Message
	}
	assert.Contains(t, found["expect[1]"], "expects nothing")
	assert.Contains(t, found["expect[2].entry"], "say whom it is about")
	assert.Contains(t, found["expect[3].becomes"], "write one of create, adopt")
	assert.Contains(t, found["expect[4].problem"], "no problem")
	assert.NotEmpty(t, found["expect[5].values[emails[]"])
	assert.NotContains(t, found, "expect[0]")
	assert.Equal(t, "takes part, active = true, nickName = nothing, title = Mate", document.Expect[0].Said())
}

func TestWhatIsExpectedDecidesAboutNobody(t *testing.T) {
	one := settings.Default(settings.Directory{Name: "halvard", Dialect: entry.Standard, Base: "dc=halvard,dc=example"})
	other, in := one, true
	other.Expect = []settings.Expectation{{Entry: "ada", In: &in}}
	assert.True(t, settings.DecideAlike(one, other))
	assert.Len(t, settings.Diff(one, other), 1)
	other.Users.Filter = "(title=Mate)"
	assert.False(t, settings.DecideAlike(one, other))
}
