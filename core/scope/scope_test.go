package scope

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/settings"
)

func fleet(t *testing.T) *Scope {
	t.Helper()
	s, err := Compile(settings.Document{
		Directories: []settings.Directory{{Name: "halvard", Base: "DC=halvard,DC=example", Containers: settings.Containers{
			Include: []string{"OU=Fleet,DC=halvard,DC=example", "OU=Cooks,OU=Galley,OU=Fleet,DC=halvard,DC=example"},
			Exclude: []string{"OU=Galley,OU=Fleet,DC=halvard,DC=example"},
		}}},
		Users: settings.Taking{Filter: "(&(objectClass=user)(!(cn=svc-*)))"},
	})
	require.NoError(t, err)
	return s
}

func person(dn string) entry.Entry {
	return entry.Entry{Directory: "halvard", Kind: entry.User, DN: dn, Attributes: entry.Attributes{"objectClass": {"user"}, "cn": {"x"}}}
}

func TestDecide(t *testing.T) {
	t.Parallel()
	s := fleet(t)
	gone := person("CN=a,OU=Fleet,DC=halvard,DC=example")
	gone.Gone = true
	elsewhere := person("CN=a,OU=Fleet,DC=halvard,DC=example")
	elsewhere.Directory = "brisling"
	service := person("CN=svc-x,OU=Fleet,DC=halvard,DC=example")
	service.Attributes["cn"] = []string{"svc-x"}
	container := entry.Entry{Directory: "halvard", Kind: entry.Container, DN: "OU=Deck,OU=Fleet,DC=halvard,DC=example"}
	for name, c := range map[string]struct {
		entry entry.Entry
		want  Code
	}{
		"in an included container":                 {person("CN=a,OU=Fleet,DC=halvard,DC=example"), Included},
		"a new child container follows its parent": {person("CN=a,OU=Deck,ou=fleet,dc=halvard,dc=example"), Included},
		"the nearest mark excludes":                {person("CN=a,OU=Galley,OU=Fleet,DC=halvard,DC=example"), Excluded},
		"an include below an exclude wins":         {person("CN=a,OU=Cooks,OU=Galley,OU=Fleet,DC=halvard,DC=example"), Included},
		"no mark on the way up":                    {person("CN=a,OU=Leavers,DC=halvard,DC=example"), NoMark},
		"a container with the same beginning":      {person("CN=a,OU=Fleetwood,DC=halvard,DC=example"), NoMark},
		"deleted":                                  {gone, Gone},
		"of a directory the settings do not name":  {elsewhere, UnknownDirectory},
		"kept out by the filter":                   {service, Filtered},
		"a container itself":                       {container, KindOff},
	} {
		verdict := s.Explain(c.entry)
		assert.Equal(t, c.want, verdict.Code, name)
		assert.Equal(t, c.want == Included, verdict.In, name)
		assert.NotEmpty(t, verdict.Summary, name)
		assert.True(t, decides(verdict.Reasons), "%s: no reason is marked as deciding", name)
	}
}

func TestAllOfItMustHoldAtOnce(t *testing.T) {
	t.Parallel()
	base := "DC=halvard,DC=example"
	limited := func(nested bool) *Scope {
		s, err := Compile(settings.Document{
			Directories: []settings.Directory{{Name: "halvard", Base: base, Containers: settings.Containers{Include: []string{base}}}},
			Users:       settings.Taking{Filter: "(objectClass=user)", MembersOf: settings.GroupLimit{Groups: []string{"cn=Pilot, " + base}, Nested: nested}},
			Groups:      settings.Taking{Off: true}, Contacts: settings.Taking{Filter: "(mail=*)"},
		})
		require.NoError(t, err)
		assert.True(t, s.AsksForGroups())
		assert.Equal(t, []entry.Kind{entry.User, entry.Contact}, s.Kinds())
		return s
	}
	direct, through := person("CN=a,"+base), person("CN=b,"+base)
	direct.Groups, direct.AllGroups = []string{"CN=Pilot," + base}, []string{"CN=Pilot," + base}
	through.Groups, through.AllGroups = []string{"CN=Inner," + base}, []string{"CN=Inner," + base, "CN=Pilot," + base}
	group, contact, reachable := person("CN=g,"+base), person("CN=c,"+base), person("CN=d,"+base)
	group.Kind, contact.Kind, reachable.Kind = entry.Group, entry.Contact, entry.Contact
	reachable.Attributes = entry.Attributes{"mail": {"d@halvard.example"}}
	for name, c := range map[string]struct {
		entry  entry.Entry
		nested bool
		want   Code
	}{
		"a member":                           {direct, false, Included},
		"a member of a group within it":      {through, true, Included},
		"that one, where only direct counts": {through, false, NotMember},
		"no member":                          {person("CN=x," + base), true, NotMember},
		"a kind that is switched off":        {group, true, KindOff},
		"a contact that its filter drops":    {contact, true, Filtered},
		"a contact that its filter keeps":    {reachable, true, Included},
	} {
		verdict := limited(c.nested).Explain(c.entry)
		assert.Equal(t, c.want, verdict.Code, name)
		assert.True(t, decides(verdict.Reasons), name)
	}
}

func decides(nodes []reason.Node) bool {
	for _, node := range nodes {
		if node.Deciding || decides(node.Children) {
			return true
		}
	}
	return false
}

func TestExplainNamesTheContainerThatKeepsItOut(t *testing.T) {
	t.Parallel()
	verdict := fleet(t).Explain(person("CN=a,OU=Bakers,OU=Galley,OU=Fleet,DC=halvard,DC=example"))
	assert.Equal(t, "out: the container OU=Galley,OU=Fleet,DC=halvard,DC=example is excluded", verdict.Summary)
	containers := verdict.Reasons[2]
	require.Len(t, containers.Children, 4, "one for each container up to the base")
	assert.Equal(t, "not marked", containers.Children[0].Value)
	assert.True(t, containers.Children[1].Deciding)
	assert.False(t, containers.Children[2].Deciding, "the include further up does not decide")
}
