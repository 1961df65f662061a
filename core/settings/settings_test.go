package settings

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
)

func halvard() Document {
	return Default(Directory{
		Name: "halvard", Dialect: AD, Base: "DC=corp,DC=halvard,DC=example",
		Containers: Containers{
			Include: []string{"OU=Fleet,DC=corp,DC=halvard,DC=example"},
			Exclude: []string{"OU=Galley,OU=Fleet,DC=corp,DC=halvard,DC=example"},
		},
	})
}

func TestDefaultsAreValidAndSurviveTheRoundTrip(t *testing.T) {
	t.Parallel()
	for _, dialect := range []Dialect{AD, Standard} {
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
	d.Users.Rules[0].Target = "externalId"
	d.Users.Rules[1].Formula = `entry.cn +`
	d.Users.Rules[2].From = "cn"
	d.Users.Leavers = "delete"
	d.Guard.Share = 101
	d.Schedule.Every = "1s"
	paths := map[string]string{}
	for _, fault := range d.Validate() {
		paths[fault.Path] = fault.Message
	}
	for path, part := range map[string]string{
		"directories[0].name":                  "small letters",
		"directories[0].dialect":               "ad or standard",
		"directories[0].containers.exclude[0]": "include[0]",
		"directories[0].containers.exclude[1]": "RFC 4514",
		"directories[0].containers.exclude[2]": "does not lie below",
		"users.filter":                         "closing parenthesis",
		"users.match[0].resource":              "no resource attribute",
		"users.rules[0].target":                "cannot be set",
		"users.rules":                          "userName",
		"users.rules[1].formula":               "Syntax error",
		"users.rules[2]":                       "exactly one",
		"users.leavers":                        "suspend or keep",
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
	require.Len(t, failure.Faults, 1)
	assert.Contains(t, failure.Faults[0].Message, "dialekt")
	assert.Equal(t, 3, failure.Faults[0].Line)
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
