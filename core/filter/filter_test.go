package filter

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/reason"
)

var ada = entry.Entry{
	DN: "CN=Ada Brekke,OU=Deck,OU=Fleet,DC=corp,DC=halvard,DC=example",
	Attributes: entry.Attributes{
		"objectClass":        {"top", "person", "user"},
		"cn":                 {"Ada Brekke"},
		"userAccountControl": {"514"},
		"proxyAddresses":     {"SMTP:ada@halvard.example", "smtp:a.b@halvard.example"},
		"description":        {"first (mate) of * \\ all"},
		"employeeNumber":     {"42"},
	},
}

func TestMatches(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]bool{
		"(cn=ada brekke)":                    true,
		"(CN=Ada)":                           false,
		"(cn=ada*)":                          true,
		"(cn=*ekk*)":                         true,
		"(cn=a*b*e)":                         true,
		"(cn=a*x*e)":                         false,
		"(cn=ada*ada brekke)":                false,
		"(mail=*)":                           false,
		"(!(mail=*))":                        true,
		"(&)":                                true,
		"(|)":                                false,
		"(& (objectClass=user) (!(cn=x*)) )": true,
		"(|(cn=x)(objectclass=person))":      true,
		"(proxyAddresses=smtp:A.B@halvard.example)":                 true,
		`(description=first \28mate\29 of \2a \5c all)`:             true,
		"(userAccountControl:1.2.840.113556.1.4.803:=2)":            true,
		"(userAccountControl:1.2.840.113556.1.4.803:=3)":            false,
		"(userAccountControl:1.2.840.113556.1.4.804:=3)":            true,
		"(employeeNumber>=5)":                                       true,
		"(!(employeeNumber>=50))":                                   true,
		"(employeeNumber<=5)":                                       false,
		"(ou:dn:=fleet)":                                            true,
		"(cn:caseExactMatch:=ada brekke)":                           false,
		"(cn~=ADA BREKKE)":                                          true,
		"(&(objectClass=user)(|(cn=ada*)(cn=b*))(!(ou:dn:=shore)))": true,
	} {
		f, err := Parse(text)
		require.NoError(t, err, text)
		f = f.For(!strings.Contains(text, "caseExactMatch"))
		assert.Equal(t, want, f.Matches(ada), text)
		assert.Equal(t, reason.Of(want), f.Explain(ada).Outcome, text)
	}
}

func TestWhatADirectoryCannotEvaluateIsUndefined(t *testing.T) {
	t.Parallel()
	for text, want := range map[string][2]bool{ // by the standard schemas, in the dialect ad
		"(employeeNumber>=5)":                                           {false, true},
		"(!(employeeNumber>=5))":                                        {false, false},
		"(|(employeeNumber>=5)(cn=ada*))":                               {true, true},
		"(&(employeeNumber>=5)(cn=ada*))":                               {false, true},
		"(!(&(employeeNumber>=5)(cn=x)))":                               {true, true},
		"(cn:caseExactMatch:=Ada Brekke)":                               {true, false},
		"(!(cn:caseExactMatch:=x))":                                     {true, false},
		"(createTimestamp>=20260101000000Z)":                            {true, true},
		"(member=cn=Bo, dc=example)":                                    {true, true},
		"(memberOf=cn=Crew,dc=example)":                                 {true, true},
		"(memberOf=cn=All,dc=example)":                                  {false, false},
		"(objectClass=organizationalPerson)":                            {true, true},
		"(telephoneNumber=+4755010101)":                                 {true, true},
		"(objectCategory=person)":                                       {false, true},
		`(objectGUID=\00\00\00\00\00\00\00\00\00\00\00\00\00\00\00\07)`: {true, true},
		"(cn=ada   brekke )":                                            {true, true},
	} {
		f, err := Parse(text)
		require.NoError(t, err, text)
		e := ada
		e.ID, e.Kind = entry.ID{15: 7}, entry.User
		e.Members, e.Groups, e.AllGroups = []string{"CN=Bo,DC=example"}, []string{"CN=Crew,DC=example"}, []string{"CN=Crew,DC=example", "CN=All,DC=example"}
		e.Attributes = entry.Attributes{"createTimestamp": {"20260301000000Z"}, "telephoneNumber": {"+47 55-01 01 01"}}
		for name, values := range ada.Attributes {
			e.Attributes[name] = values
		}
		assert.Equal(t, want, [2]bool{f.For(false).Matches(e), f.For(true).Matches(e)}, text)
	}
	chain, err := Parse("(memberOf:1.2.840.113556.1.4.1941:=cn=All,dc=example)")
	require.NoError(t, err)
	assert.True(t, chain.AsksForGroups())
	assert.Empty(t, chain.Attributes(), "memberships are known without asking")
	assert.True(t, chain.For(true).Matches(entry.Entry{AllGroups: []string{"CN=All,DC=example"}}))
}

func TestParseTellsWhereAndWhy(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]struct {
		offset int
		reason string
	}{
		"":                 {0, "opening parenthesis"},
		"cn=ada":           {0, "opening parenthesis"},
		"(cn=ada":          {7, "closing parenthesis"},
		"(cn=ada))":        {8, "text follows"},
		"(cn)":             {3, "expected ="},
		"(=x)":             {1, "attribute name"},
		"(c n=x)":          {2, "is no attribute name"},
		`(cn=a\zz)`:        {5, "two hex digits"},
		"(cn=a(b)":         {5, `\28`},
		"(cn=a**b)":        {8, "two stars"},
		"(!(a=1)(b=2))":    {12, "exactly one"},
		"(cn>x)":           {4, "expected ="},
		"(cn:1.2:x)":       {9, "expected :="},
		"(cn>=a*)":         {6, `\2a`},
		"(&(cn=a)(|(x=1))": {16, "closing parenthesis"},
	} {
		_, err := Parse(text)
		var syntax *SyntaxError
		require.True(t, errors.As(err, &syntax), "%q gave %v", text, err)
		assert.Equal(t, want.offset, syntax.Offset, "%q: %v", text, err)
		assert.Contains(t, syntax.Reason, want.reason, text)
	}
}

func TestExplainMarksWhatDecided(t *testing.T) {
	t.Parallel()
	f, err := Parse("(&(objectClass=user)(cn=Bjarne*)(!(userAccountControl=514)))")
	require.NoError(t, err)
	node := f.Explain(ada)
	require.Len(t, node.Children, 3)
	assert.False(t, node.Children[0].Deciding, "a part that held cannot have kept the entry out")
	assert.True(t, node.Children[1].Deciding)
	assert.Equal(t, "Ada Brekke", node.Children[1].Value)
	assert.True(t, node.Children[2].Children[0].Deciding)
}

func FuzzParse(f *testing.F) {
	f.Add("(&(cn=a*b)(!(x:dn:1.2:=\\2a)))")
	f.Add("((((")
	f.Fuzz(func(t *testing.T, text string) {
		parsed, err := Parse(text)
		if err != nil {
			return
		}
		parsed.Matches(ada)
		again, err := Parse(parsed.String())
		require.NoError(t, err)
		require.Equal(t, parsed.Matches(ada), again.Matches(ada))
	})
}

func TestAFilterComesOutByTheSchema(t *testing.T) {
	t.Parallel()
	e := entry.Entry{Kind: entry.User, Attributes: entry.Attributes{"berth": {"Aft  7"}, "title": {"Mate"}, "rank": {"5"}}}
	schema := entry.Schema{"berth": {Equality: "caseExactMatch"}, "title": {Equality: "caseIgnoreMatch"}, "rank": {Equality: "integerMatch", Ordering: "integerOrderingMatch"}}
	matches := func(text string, known bool) bool {
		f, err := Parse(text)
		require.NoError(t, err)
		if known {
			f = f.By(schema)
		}
		return f.Matches(e)
	}
	for text, want := range map[string][2]bool{ // without the schema, and by it
		"(berth=aft 7)": {true, false}, "(berth=Aft 7)": {true, true}, "(berth=AFT*)": {true, false}, "(berth=Aft*7)": {true, true},
		"(!(berth=aft 7))": {false, true}, "(title=MATE)": {true, true}, "(rank>=4)": {false, true}, "(rank>=6)": {false, false},
	} {
		assert.Equal(t, want, [2]bool{matches(text, false), matches(text, true)}, text)
	}

	unknown, err := Parse("(&(title=Mate)(!(berth:1.2.3:=x)))")
	require.NoError(t, err)
	assert.Equal(t, []string{"1.2.3"}, unknown.UnknownRules())
	assert.False(t, unknown.Matches(e), "what cannot be evaluated is undefined, and so is its opposite")
	assert.True(t, unknown.Turned("berth"))
	assert.False(t, unknown.Turned("title"))
	assert.True(t, NotTold("LASTLOGON"))
}
