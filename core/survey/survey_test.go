package survey

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/person"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/settings"
)

func newSurvey(t *testing.T, domains []string, dialects ...entry.Dialect) *Survey {
	t.Helper()
	var directories []settings.Directory
	for _, dialect := range dialects {
		directories = append(directories, settings.Directory{Dialect: dialect})
	}
	set, err := rules.Compile(settings.Default(directories...).Users)
	require.NoError(t, err)
	return New(Options{Domains: domains, Rules: set})
}

var verified = []string{"halvard-cargo.example", "halvard.example"}

func one(n byte, kind entry.Kind, attributes map[string]string) entry.Entry {
	e := entry.Entry{Directory: "halvard", ID: entry.ID{15: n}, Kind: kind, DN: "CN=" + string('A'+rune(n)) + ",DC=halvard,DC=example", Attributes: entry.Attributes{"displayName": {"Name"}, "sAMAccountName": {"x"}}}
	for name, value := range attributes {
		e.Attributes[name] = strings.Split(value, "|")
	}
	return e
}

// TestFindings holds each kind of finding with the repair that it proposes.
func TestFindings(t *testing.T) {
	t.Parallel()
	type found struct {
		code     Code
		action   Action
		proposal string
	}
	user := func(login string, more ...string) entry.Entry {
		attributes := map[string]string{"userPrincipalName": login}
		for i := 0; i < len(more); i += 2 {
			attributes[more[i]] = more[i+1]
		}
		return one(1, entry.User, attributes)
	}
	for name, c := range map[string]struct {
		entry entry.Entry
		want  []found
	}{
		"nothing wrong":                           {user("ada@halvard.example", "mail", "ada@halvard.example"), nil},
		"a suffix below a verified one":           {user("ada@corp.halvard.example"), []found{{SuffixNotVerified, Set, "ada@halvard.example"}}},
		"a suffix, where the address is verified": {user("ada@x.example", "mail", "a.b@halvard-cargo.example"), []found{{SuffixNotVerified, Set, "ada@halvard-cargo.example"}}},
		"a suffix that leads nowhere":             {user("ada@x.example"), []found{{SuffixNotVerified, None, ""}}},
		"letters the cloud refuses":               {user("åse kjær@halvard.example"), []found{{LoginMalformed, Set, "ase.kjaer@halvard.example"}}},
		"no domain at all":                        {user("ada"), []found{{LoginMalformed, None, ""}}},
		"a login that is too long":                {user(strings.Repeat("a", 65) + "@halvard.example"), []found{{LoginMalformed, None, ""}}},
		"no login, but an address":                {user("", "mail", "ada@halvard.example"), []found{{LoginMissing, Set, "ada@halvard.example"}}},
		"an address with a space at the end":      {user("ada@halvard.example", "mail", "ada @halvard.example"), []found{{AddressMalformed, Set, "ada@halvard.example"}}},
		"an address in a list, with its scheme":   {user("ada@halvard.example", "proxyAddresses", "smtp:a da@halvard.example|x500:/o=x"), []found{{AddressMalformed, Set, "smtp:a.da@halvard.example"}}},
		"the same address in two lists of one":    {user("ada@halvard.example", "mail", "a@halvard.example", "proxyAddresses", "SMTP:A@halvard.example"), nil},
		"a blank display name":                    {user("ada@halvard.example", "displayName", " ", "givenName", "Ada", "sn", "Lind"), []found{{NameBlank, Set, "Ada Lind"}}},
		"a contact without an address":            {one(1, entry.Contact, nil), []found{{AddressMissing, None, ""}}},
		"a group for mail without an address":     {one(1, entry.Group, map[string]string{"groupType": "8"}), []found{{AddressMissing, None, ""}}},
		"a group that gives rights needs none":    {one(1, entry.Group, map[string]string{"groupType": "-2147483646"}), nil},
		"a group of the dialect standard neither": {one(1, entry.Group, nil), nil},
	} {
		s := newSurvey(t, verified, entry.AD)
		s.Add(c.entry)
		findings, _ := s.Finish()
		var got []found
		for _, f := range findings {
			got = append(got, found{f.Code, f.Action, f.Proposal})
			assert.NotEmpty(t, f.Detail, name)
			assert.NotEmpty(t, Describe(f.Code).Remedy, name)
		}
		assert.Equal(t, c.want, got, name)
	}
}

func TestWhatIsOnTwoEntriesIsToldOnBoth(t *testing.T) {
	t.Parallel()
	s := newSurvey(t, verified, entry.AD, entry.Standard)
	a := one(1, entry.User, map[string]string{"userPrincipalName": "ada@halvard.example", "mail": "bridge@halvard.example"})
	b := one(2, entry.User, map[string]string{"userPrincipalName": "bo@halvard.example", "otherMailbox": "x@halvard.example|BRIDGE@halvard.example"})
	c := one(3, entry.User, map[string]string{"mail": "Ada@halvard.example"})
	c.Directory = "brisling"
	delete(c.Attributes, "sAMAccountName")
	for _, e := range []entry.Entry{a, b, c} {
		s.Add(e)
	}
	findings, domains := s.Finish()
	type line struct {
		code      Code
		id        byte
		attribute string
		action    Action
	}
	var got []line
	for _, f := range findings {
		got = append(got, line{f.Code, f.EntryID[15], f.Attribute, f.Action})
	}
	assert.ElementsMatch(t, []line{
		{LoginTwice, 1, "userPrincipalName", None}, {LoginTwice, 3, "mail", None}, // across directories, whatever the attribute is called
		{AddressTwice, 1, "mail", None}, {AddressTwice, 2, "otherMailbox", Remove},
	}, got)
	assert.Contains(t, findings[0].Detail, "also on ")
	yes := true
	assert.Equal(t, []Domain{{"halvard.example", 3, &yes}, {"halvard-cargo.example", 0, &yes}}, domains)
}

func TestWithoutKnownDomainsSuffixesAreHeldAgainstNothing(t *testing.T) {
	t.Parallel()
	s := newSurvey(t, nil, entry.AD)
	s.Add(one(1, entry.User, map[string]string{"userPrincipalName": "ada@anything.example"}))
	findings, domains := s.Finish()
	assert.Empty(t, findings)
	assert.Equal(t, []Domain{{Name: "anything.example", Entries: 1}}, domains)
}

func TestPatterns(t *testing.T) {
	t.Parallel()
	e := one(1, entry.User, map[string]string{"mail": "ada@halvard.example"})
	for name, c := range map[string]struct {
		pattern Pattern
		value   string
		want    string
		ok      bool
	}{
		"replace the suffix":              {Pattern{Suffix: "@CORP.halvard.example", With: "@halvard.example"}, "ada@corp.halvard.example", "ada@halvard.example", true},
		"a value without the suffix":      {Pattern{Suffix: "@corp.halvard.example", With: "@x.example"}, "ada@y.example", "", false},
		"trim":                            {Pattern{Trim: true}, " ada ", "ada", true},
		"nothing to trim":                 {Pattern{Trim: true}, "ada", "ada", false},
		"take from another attribute":     {Pattern{From: "mail"}, "", "ada@halvard.example", true},
		"take from one that is not there": {Pattern{From: "title"}, "x", "", false},
		"all of it":                       {Pattern{From: "mail", Lower: true, Suffix: "@halvard.example", With: "@h.example"}, "x", "ada@h.example", true},
	} {
		require.NoError(t, c.pattern.Check(), name)
		got, ok := c.pattern.Apply(c.value, e)
		assert.Equal(t, c.ok, ok, name)
		if ok {
			assert.Equal(t, c.want, got, name)
		}
	}
	assert.Error(t, Pattern{With: "@x.example"}.Check())
}

func TestTheCatalogueIsComplete(t *testing.T) {
	t.Parallel()
	seen := map[Code]bool{}
	for _, kind := range Catalogue() {
		assert.False(t, seen[kind.Code], "%s stands twice", kind.Code)
		seen[kind.Code] = true
		assert.NotEmpty(t, kind.Title+kind.Cause+kind.Remedy)
	}
	assert.Equal(t, "nothing-of-ours", Describe("nothing-of-ours").Title)
}

func TestOnePersonMayHaveTheSameValuesInSeveralDirectories(t *testing.T) {
	t.Parallel()
	of := settings.Default(settings.Directory{Name: "halvard", Dialect: entry.AD}).Users
	set, err := rules.Compile(of)
	require.NoError(t, err)
	persons, err := person.Compile(settings.Taking{Person: []settings.PersonRule{{Name: "number", From: "employeeID"}}})
	require.NoError(t, err)
	codes := func(number string, directory string) []Code {
		s := New(Options{Rules: set, Person: persons})
		first := one(1, entry.User, map[string]string{"userPrincipalName": "otto@halvard.example", "mail": "otto@halvard.example", "employeeID": "7"})
		second := one(2, entry.User, map[string]string{"userPrincipalName": "otto@halvard.example", "mail": "otto@halvard.example", "employeeID": number})
		second.Directory = directory
		s.Add(first)
		s.Add(second)
		findings, _ := s.Finish()
		var codes []Code
		for _, f := range findings {
			codes = append(codes, f.Code)
		}
		return codes
	}
	assert.Empty(t, codes("7", "brisling"))
	assert.ElementsMatch(t, []Code{LoginTwice, LoginTwice, AddressTwice, AddressTwice}, codes("8", "brisling"))
	assert.Len(t, codes("7", "halvard"), 4, "within one directory they are two")
}

func TestValuesAreCheckedBeforeTheyAreWritten(t *testing.T) {
	t.Parallel()
	for value, right := range map[[2]string]bool{
		{"mail", "mira@halvard.example"}:                     true,
		{"mail", "not an address"}:                           false,
		{"MAIL", "mira@"}:                                    false,
		{"proxyAddresses", "SMTP:mira@halvard.example"}:      true,
		{"proxyAddresses", "smtp:mira"}:                      false,
		{"proxyAddresses", "x500:/o=Halvard"}:                true,
		{"userPrincipalName", "mira@halvard.example"}:        true,
		{"userPrincipalName", "mira tangen@halvard.example"}: false,
		{"displayName", "Mira Tangen"}:                       true,
		{"displayName", "  "}:                                false,
	} {
		assert.Equal(t, right, CheckValue(value[0], value[1]) == "", "%v", value)
	}
}
