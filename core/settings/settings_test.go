package settings

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/problem"
)

func halvard() Document {
	return Default(Directory{
		Name: "halvard", Dialect: entry.AD, Base: "DC=corp,DC=halvard,DC=example",
		Containers: Containers{
			Include: []string{"OU=Fleet,DC=corp,DC=halvard,DC=example"},
			Exclude: []string{"OU=Galley,OU=Fleet,DC=corp,DC=halvard,DC=example"},
		},
	})
}

func TestDefaultsAreValidAndSurviveTheRoundTrip(t *testing.T) {
	t.Parallel()
	for _, dialect := range []entry.Dialect{entry.AD, entry.Standard} {
		document := halvard()
		directory := document.Directories[0]
		directory.Dialect = dialect
		document = Default(directory)
		require.Empty(t, document.Validate())
		text, err := document.YAML()
		require.NoError(t, err)
		again, err := Parse(text)
		require.NoError(t, err, string(text))
		assert.Equal(t, document, again)
	}
}

func TestValidateListsAllFaultsWithTheirPaths(t *testing.T) {
	t.Parallel()
	d := halvard()
	d.Directories[0].Name = "Halvard Ferries"
	d.Directories[0].Dialect = "x500"
	d.Directories[0].Containers.Exclude = []string{"OU=Fleet,DC=corp,DC=halvard,DC=example", "Fleet", "OU=X,DC=other,DC=example"}
	d.Users.Filter = "(cn=x"
	d.Users.Match[0].Resource = "emails["
	d.Directories[0].Features = []entry.Feature{"everything"}
	d.Groups.MembersOf.Groups = []string{"CN=Pilot,DC=other,DC=example"}
	d.Cloud.Domains = []string{"halvard"}
	d.Cloud.Habits = CloudHabits{PageSize: -1, Paging: "numbers", Without: []CloudFeature{FeaturePatch, "pages"}, WholeAttributes: true}
	d.Users.Rules[0].Target = "externalId"
	d.Users.Rules[1].Formula = `entry.cn +`
	d.Users.Rules[2].From = "cn"
	d.Users.Leavers = "forget"
	d.Guard.Share = 101
	d.Schedule.Every = "1s"
	paths := map[string]string{}
	for _, fault := range d.Validate() {
		paths[fault.Path] = fault.Message
	}
	for path, part := range map[string]string{
		"directories[0].name":                  "small letters",
		"directories[0].dialect":               "one of [\"ad\" \"standard\" \"389ds\"]",
		"directories[0].containers.exclude[0]": "include[0]",
		"directories[0].containers.exclude[1]": "RFC 4514",
		"directories[0].containers.exclude[2]": "does not lie below",
		"users.filter":                         "closing parenthesis",
		"directories[0].features[0]":           "no feature",
		"groups.membersOf.groups[0]":           "base of no directory",
		"cloud.domains[0]":                     "no domain",
		"cloud.habits.pageSize":                "how many resources",
		"cloud.habits.paging":                  "index or cursor",
		"cloud.habits.without":                 "nothing that can be done without",
		"cloud.habits.wholeAttributes":         "without says that this is not used",
		"users.match[0].resource":              "no resource attribute",
		"users.rules[0].target":                "cannot be set",
		"users.rules":                          "userName",
		"users.rules[1].formula":               "Syntax error",
		"users.rules[2]":                       "exactly one",
		"users.leavers":                        "suspend, delete or keep",
		"guard.share":                          "0 to 100",
		"schedule.every":                       "too short",
	} {
		assert.Contains(t, paths[path], part, path)
	}
}

func TestParseTellsTheLineOfAMisspeltKey(t *testing.T) {
	t.Parallel()
	document := halvard()
	text, err := document.YAML()
	require.NoError(t, err)
	bad := strings.Replace(string(text), "dialect:", "dialekt:", 1)
	_, err = Parse([]byte(bad))
	var failure *problem.Error
	require.True(t, errors.As(err, &failure))
	assert.Equal(t, problem.SettingsInvalid, failure.Code)
	require.Len(t, failure.Faults, 2)
	assert.Equal(t, "directories[0].dialekt", failure.Faults[0].Path)
	assert.Equal(t, 3, failure.Faults[0].FileLine)
	assert.Equal(t, "directories[0].dialect", failure.Faults[1].Path, "what follows from it is told at the same time")
}

func TestEveryFaultOfAFileHasItsLine(t *testing.T) {
	t.Parallel()
	document := halvard()
	document.Users.Filter = "(&(cn=a)"
	document.Users.Rules[1].Formula = "entry.cn +"
	document.Guard.Share = 200
	text, err := document.YAML()
	require.NoError(t, err)
	_, err = Parse(text)
	var failure *problem.Error
	require.True(t, errors.As(err, &failure))
	lines := strings.Split(string(text), "\n")
	for path, part := range map[string]string{"users.filter": "(&(cn=a)", "users.rules[1].formula": "entry.cn +", "guard.share": "200"} {
		at := slices.IndexFunc(failure.Faults, func(f problem.Fault) bool { return f.Path == path })
		require.GreaterOrEqual(t, at, 0, path)
		require.NotZero(t, failure.Faults[at].FileLine, path)
		assert.Contains(t, lines[failure.Faults[at].FileLine-1], part, path)
	}
	_, err = Read([]byte("directories: [\n  - name: x\n"))
	require.True(t, errors.As(err, &failure))
	assert.NotZero(t, failure.Faults[0].Line, "what is no YAML has the line, too")
}

func TestDiffNamesWhatDiffers(t *testing.T) {
	t.Parallel()
	before, after := halvard(), halvard()
	assert.Empty(t, Diff(before, after))
	after.Directories[0].Containers.Exclude = nil
	after.Directories[0].Containers.Include = append(after.Directories[0].Containers.Include, "OU=Terminals,DC=corp,DC=halvard,DC=example")
	after.Users.Rules = slices.Insert(slices.Clone(after.Users.Rules), 0, Rule{Target: "nickName", From: "cn"})
	after.Guard.Share = 7
	paths := []string{}
	for _, d := range Diff(before, after) {
		paths = append(paths, d.Path)
	}
	assert.Equal(t, []string{
		"directories[halvard].containers.exclude[OU=Galley,OU=Fleet,DC=corp,DC=halvard,DC=example]",
		"directories[halvard].containers.include[OU=Terminals,DC=corp,DC=halvard,DC=example]",
		"guard.share", "users.rules[nickName]",
	}, paths)
	reordered := halvard()
	slices.Reverse(reordered.Users.Match)
	assert.Equal(t, []Difference{{"users.match (order)", "same login, same address", "same address, same login"}}, Diff(before, reordered))
}

func TestASecondDirectoryBringsItsDefaults(t *testing.T) {
	t.Parallel()
	brisling := Directory{Name: "brisling", Dialect: entry.Standard, Base: "dc=brisling,dc=example", Containers: Containers{Include: []string{"dc=brisling,dc=example"}}}
	document := halvard()
	document.Users.Rules[6] = Rule{Target: "title", Always: "Mate"}
	document.Add(brisling)
	require.Empty(t, document.Validate())
	assert.Equal(t, `has(entry.userPrincipalName) ? entry.userPrincipalName : entry.mail`, document.Users.Rules[0].Formula)
	assert.Equal(t, "Mate", document.Users.Rules[6].Always, "what was changed by hand stays")
	assert.Equal(t, halvard().Users.Match, document.Users.Match, "they follow what the rules make, whatever the dialect")
	var empty Document
	empty.Add(brisling)
	assert.Equal(t, Default(brisling), empty)
}

func FuzzParse(f *testing.F) {
	document := halvard()
	text, _ := document.YAML()
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		if document, err := Parse(text); err == nil {
			require.Empty(t, document.Validate())
		}
	})
}

func TestRulesAreHeldAgainstWhatTheCloudTakes(t *testing.T) {
	t.Parallel()
	offered := map[entry.Kind][]Offered{
		entry.User: {
			{Path: "userName", Type: "string", Required: true}, {Path: "active", Type: "boolean"}, {Path: "displayName", Type: "string"}, {Path: "title", Type: "string"},
			{Path: "employeeType", Type: "string", Required: true}, {Path: "seat", Type: "integer"}, {Path: "lastSeen", Type: "string", ReadOnly: true}, {Path: "tags", Type: "string", MultiValued: true},
			{Path: "emails", Type: "complex", MultiValued: true}, {Path: `emails[type eq "work"].value`, Type: "string"}, {Path: "roles", Type: "complex", MultiValued: true}, {Path: "name.givenName", Type: "string"},
		},
	}
	faults := func(rules ...Rule) []string {
		d := Document{Users: Taking{Rules: append([]Rule{{Target: "userName", From: "mail"}, {Target: "active", Formula: "!disabled"}, {Target: "employeeType", Always: "crew"}}, rules...)}}
		var out []string
		for _, f := range d.Against(offered) {
			out = append(out, f.String())
		}
		return out
	}
	assert.Empty(t, faults(Rule{Target: "TITLE", From: "title"}, Rule{Target: `emails[type eq "shore"].value`, From: "mail"}, Rule{Target: "seat", Formula: "size(entry.cn)"},
		Rule{Target: "tags", Formula: "all.ou"}, Rule{Target: "roles", Granted: []Grant{{"cn=a,dc=example", "x"}}}, Rule{Target: "active", Formula: `entry.x == "1"`}))
	for _, c := range []struct {
		rule Rule
		want string
	}{
		{Rule{Target: "titel", From: "title"}, "users.rules[3].target: the cloud's users have no titel; it has title"},
		{Rule{Target: "emails.value", From: "mail"}, "users.rules[3].target: the cloud's users have no emails.value; it has emails"},
		{Rule{Target: "urn:example:none:deck", From: "title"}, "users.rules[3].target: the cloud's users have no urn:example:none:deck"},
		{Rule{Target: "lastSeen", From: "title"}, "users.rules[3].target: lastSeen can only be read in the cloud"},
		{Rule{Target: "emails", From: "mail"}, `users.rules[3].target: emails has parts: name one, as in emails[type eq "work"].value`},
		{Rule{Target: "seat", From: "title"}, "users.rules[3].from: the text of title is a text, and seat takes a whole number"},
		{Rule{Target: "title", Always: true}, "users.rules[3].always: true is a truth value, and title takes a text"},
		{Rule{Target: "title", Formula: "all.title"}, "users.rules[3].formula: what it gives is a list, and title takes one text"},
		{Rule{Target: "displayName", Formula: "entry.cn", Fallback: "1 + 1"}, "users.rules[3].fallback: what it gives is a whole number, and displayName takes a text"},
		{Rule{Target: "displayName", Granted: []Grant{{"cn=a,dc=example", "x"}}}, "users.rules[3].target: displayName holds one value in the cloud; memberships grant values of attributes that hold several"},
	} {
		assert.Equal(t, []string{c.want}, faults(c.rule))
	}
	d := Document{Users: Taking{Rules: []Rule{{Target: "userName", From: "mail"}}}, Contacts: Taking{Rules: []Rule{{Target: "anything", From: "cn"}}}}
	found := d.Against(offered)
	require.Len(t, found, 1, "of a kind that the cloud tells nothing about nothing is said")
	assert.Equal(t, "users.rules: the cloud requires employeeType of every user, and no rule sets it", found[0].String())
}

// TestPasswordsNeedTheWayBack asks for the rules by which a password finds its entry.
func TestPasswordsNeedTheWayBack(t *testing.T) {
	t.Parallel()
	d := Default(Directory{Name: "halvard", Dialect: entry.AD, Base: "DC=halvard,DC=example", Containers: Containers{Include: []string{"DC=halvard,DC=example"}}})
	require.Empty(t, d.Validate())
	rules := len(d.Users.Rules)
	d.AddOrigin()
	assert.Len(t, d.Users.Rules, rules, "where no directory takes passwords nothing is needed")
	d.Directories[0].Features = []entry.Feature{entry.FeatureUnlock}
	faults := d.Validate()
	require.Len(t, faults, 2)
	assert.Contains(t, faults[0].Message, "add a rule with the formula directory")
	d.AddOrigin()
	d.AddOrigin()
	assert.Len(t, d.Users.Rules, rules+2)
	require.Empty(t, d.Validate())
	assert.True(t, d.Directories[0].Allows(password.Unlock))
	assert.False(t, d.Directories[0].Allows(password.Reset))

	person, all := d.Passwords.Limits()
	assert.Equal(t, []Rate{DefaultPerPerson, DefaultAll}, []Rate{person, all})
	d.Passwords = Passwords{Events: "cloud", Protected: "(", PerPerson: &Rate{0, "10m"}, All: &Rate{1, "a while"}}
	paths := map[string]bool{}
	for _, fault := range d.Validate() {
		paths[fault.Path] = true
	}
	assert.Equal(t, map[string]bool{"passwords.events": true, "passwords.protected": true, "passwords.perPerson.number": true, "passwords.all.within": true}, paths)
}
