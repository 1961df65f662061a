package match

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
)

var rules = Compile(settings.Taking{Match: []settings.MatchRule{
	{Name: "same login", From: "userPrincipalName", Resource: "userName"},
	{Name: "same address", From: "mail", Resource: `emails[type eq "work"].value`},
}})

// nobody is wanted where rules name the attribute.
func nobody(string) []string { return nil }

func TestARuleWithoutAnAttributeLooksForWhatTheResourceWouldHave(t *testing.T) {
	t.Parallel()
	byRules := Compile(settings.Taking{Match: []settings.MatchRule{{Name: "same login", Resource: "userName"}}})
	keys := byRules.Keys(entry.Entry{Kind: entry.User}, func(key string) []string {
		return map[string][]string{"userName": {"Mira@halvard.example"}}[key]
	})
	require.Len(t, keys, 2)
	assert.Equal(t, "userName=mira@halvard.example", keys[1].Text())
}

func resource(id, externalID string, more ...any) entry.Resource {
	return entry.Resource{"id": id, "userName": id + "@halvard.example", "externalId": externalID, "roles": more}
}

func TestDecide(t *testing.T) {
	t.Parallel()
	id, err := entry.NewID("fbbaf9cb-2b8e-40c6-ad6f-b373e46aa78d")
	require.NoError(t, err)
	jon := entry.Entry{ID: id, Kind: entry.User, Attributes: entry.Attributes{"userPrincipalName": {"Jon@halvard.example"}, "mail": {"jon@halvard.example"}}}
	const byKey, byLogin, byAddress = "externalId=fbbaf9cb-2b8e-40c6-ad6f-b373e46aa78d", "userName=jon@halvard.example", "emails.value=jon@halvard.example"
	role := map[string]any{"type": "administrative", "value": "directory"}
	for name, c := range map[string]struct {
		found map[string][]Candidate
		want  Action
		id    string
		code  problem.Code
	}{
		"nobody there":                           {nil, Create, "", ""},
		"the resource bears the link key":        {map[string][]Candidate{byKey: {{Resource: resource("r1", "x")}}, byLogin: {{Resource: resource("r2", "")}}}, Relink, "r1", ""},
		"same login":                             {map[string][]Candidate{byLogin: {{Resource: resource("r1", "")}}, byAddress: {{Resource: resource("r2", "")}}}, Adopt, "r1", ""},
		"same address, when no login fits":       {map[string][]Candidate{byAddress: {{Resource: resource("r2", "")}}}, Adopt, "r2", ""},
		"several":                                {map[string][]Candidate{byAddress: {{Resource: resource("r1", "")}, {Resource: resource("r2", "")}}}, Stop, "", problem.AmbiguousMatch},
		"the same one twice is one":              {map[string][]Candidate{byAddress: {{Resource: resource("r1", "")}, {Resource: resource("r1", "")}}}, Adopt, "r1", ""},
		"it belongs to another entry":            {map[string][]Candidate{byLogin: {{Resource: resource("r1", "y"), Owner: &problem.Entry{Name: "CN=Other"}}}}, Stop, "", problem.LinkConflict},
		"it bears a link key that nobody claims": {map[string][]Candidate{byLogin: {{Resource: resource("r1", "y")}}}, Stop, "", problem.LinkConflict},
		"it administers the cloud":               {map[string][]Candidate{byLogin: {{Resource: resource("r1", "", role)}}}, Stop, "", problem.ProtectedResource},
	} {
		d := Decide(rules.Keys(jon, nobody), func(k Key) []Candidate { return c.found[k.Text()] })
		assert.Equal(t, c.want, d.Action, name)
		assert.Equal(t, c.id, d.Resource.ID(), name)
		if c.code != "" {
			require.NotNil(t, d.Problem, name)
			assert.Equal(t, c.code, d.Problem.Code, name)
		}
		assert.Len(t, d.Reasons, 3, name)
	}
}

func TestWhoReturnsIsNotWhoIsGivenTheNameOfALeaver(t *testing.T) {
	t.Parallel()
	person := func(dn string, gone bool, attributes entry.Attributes) entry.Entry {
		return entry.Entry{Directory: "halvard", Kind: entry.User, DN: dn, Gone: gone, Attributes: attributes}
	}
	const dn = "CN=Sunniva Rud,DC=example"
	login := func(more entry.Attributes) entry.Attributes {
		out := entry.Attributes{"cn": {"Sunniva Rud"}, "userPrincipalName": {"sr@halvard.example"}}
		for name, values := range more {
			out[name] = values
		}
		return out
	}
	former := person(dn, true, login(entry.Attributes{"employeeNumber": {"41"}, "givenName": {"Sunniva"}}))
	for name, c := range map[string]struct {
		e    entry.Entry
		want bool
	}{
		"the same name and login":            {person(dn, false, login(nil)), true},
		"elsewhere in the directory":         {person("CN=Sunniva Rud,OU=Deck,DC=example", false, login(nil)), true},
		"another number":                     {person(dn, false, login(entry.Attributes{"employeeNumber": {"77"}})), false},
		"another given name":                 {person(dn, false, login(entry.Attributes{"givenName": {"Solveig"}})), false},
		"another login":                      {person(dn, false, login(entry.Attributes{"userPrincipalName": {"other@halvard.example"}})), false},
		"no login":                           {person(dn, false, entry.Attributes{"cn": {"Sunniva Rud"}}), false},
		"another name":                       {person(dn, false, login(entry.Attributes{"cn": {"Sunniva Rudi"}})), false},
		"itself deleted":                     {person(dn, true, login(nil)), false},
		"letters of another case, and space": {person(dn, false, login(entry.Attributes{"userPrincipalName": {" SR@Halvard.example"}})), true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			assert.Equal(t, c.want, Returned(c.e, former))
		})
	}
	other := former
	other.Directory = "brisling"
	assert.False(t, Returned(person(dn, false, login(nil)), other), "of another directory")
	group := entry.Entry{Directory: "halvard", Kind: entry.Group, DN: "CN=Crew,DC=example", Attributes: entry.Attributes{"cn": {"Crew"}}}
	was := group
	was.Gone = true
	assert.True(t, Returned(group, was))
	was.DN = "CN=Crew,OU=Old,DC=example"
	assert.False(t, Returned(group, was), "a group of the same name elsewhere is another one")
}
