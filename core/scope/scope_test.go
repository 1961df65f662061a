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
		Users: settings.Users{Filter: "(&(objectClass=user)(!(cn=svc-*)))"},
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
