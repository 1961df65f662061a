package demo

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
)

func TestThePeopleAreTheSameAtEveryCallAndFitTheCloud(t *testing.T) {
	t.Parallel()
	people := Halvard()
	assert.Equal(t, people, Halvard())
	assert.InDelta(t, 240, len(people), 10)
	late := 0
	logins, accounts := map[string]bool{}, map[string]bool{}
	for _, p := range people {
		assert.False(t, logins[p.Login], "%s stands twice", p.Login)
		assert.False(t, accounts[short(p.Account)], "%s stands twice as short name", short(p.Account))
		logins[p.Login], accounts[short(p.Account)] = true, true
		assert.True(t, strings.HasSuffix(p.Login, ".example"), p.Login)
		assert.Contains(t, Containers, p.Container)
		if strings.HasPrefix(p.Container, "Fleet") || strings.HasPrefix(p.Container, "Terminals") || strings.HasPrefix(p.Container, "Shore") {
			if strings.HasSuffix(p.Login, "@corp."+Domain) {
				late++
				assert.Equal(t, "Terminals/Southquay", p.Container)
			} else {
				assert.True(t, strings.HasSuffix(p.Login, "@"+Domain), "%s would be refused by the cloud", p.Login)
			}
			assert.False(t, p.Disabled)
		}
	}
	assert.Equal(t, 12, late)
	assert.Len(t, HalvardGroups(), 30)
	assert.Len(t, Contacts(), 15)
	assert.Len(t, Brisling(), 61)
	assert.Len(t, BrislingGroups(), 8)
	assert.Contains(t, logins, "ada.brekke@halvard.example")
}

func TestTheDemosSettingsAreValid(t *testing.T) {
	t.Parallel()
	for _, dialect := range []entry.Dialect{entry.AD, entry.Standard} {
		document := Settings(dialect, "DC=corp,DC=halvard,DC=example")
		require.Empty(t, document.Validate())
	}
}
