package worldtest

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
)

// Crew names the person with a number of those.
func Crew(n int) string { return fmt.Sprintf("cn=Crew %05d,%s", n, People) }

// LDIFPeople is n people as LDIF.
func LDIFPeople(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "dn: %s\nobjectClass: inetOrgPerson\nuid: crew%05d\nsn: Crew\ngivenName: N%05d\nmail: crew%05d@brisling.example\ntitle: Hand\n\n", Crew(i), i, i, i)
	}
	return b.String()
}

// Person adds one person to the directory.
func (w *World) Person(name string, more map[string]string) string {
	w.T.Helper()
	dn := "cn=" + name + "," + People
	request := ldap.NewAddRequest(dn, nil)
	request.Attribute("objectClass", []string{"inetOrgPerson"})
	request.Attribute("sn", []string{name})
	values := map[string]string{"mail": strings.ToLower(strings.ReplaceAll(name, " ", ".")) + "@brisling.example"}
	for attribute, value := range more {
		values[attribute] = value
	}
	for attribute, value := range values {
		if value != "" { // which takes away what everybody else has
			request.Attribute(attribute, []string{value})
		}
	}
	require.NoError(w.T, w.LDAP.Add(request))
	return dn
}

func (w *World) Set(dn, attribute, value string) {
	w.T.Helper()
	request := ldap.NewModifyRequest(dn, nil)
	request.Replace(attribute, []string{value})
	require.NoError(w.T, w.LDAP.Modify(request))
}

// SearchBase asks for attributes of one entry.
func SearchBase(dn string, attributes ...string) *ldap.SearchRequest {
	return &ldap.SearchRequest{BaseDN: dn, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: attributes}
}

const Teams = "ou=Teams," + Base

// TeamsLDIF is the container that groups lie in.
const TeamsLDIF = "dn: " + Teams + "\nobjectClass: organizationalUnit\n\n"

const ManagerTarget = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"

// WithGroups are settings that include the teams.
func WithGroups() settings.Document {
	d := Document()
	d.Directories[0].Containers.Include = append(d.Directories[0].Containers.Include, Teams)
	return d
}

// Group adds a group to the directory.
func (w *World) Group(name string, members ...string) string {
	w.T.Helper()
	dn := "cn=" + name + "," + Teams
	request := ldap.NewAddRequest(dn, nil)
	request.Attribute("objectClass", []string{"groupOfNames"})
	request.Attribute("member", members)
	require.NoError(w.T, w.LDAP.Add(request))
	return dn
}

func (w *World) Member(group string, add bool, dn string) {
	w.T.Helper()
	request := ldap.NewModifyRequest(group, nil)
	if add {
		request.Add("member", []string{dn})
	} else {
		request.Delete("member", []string{dn})
	}
	require.NoError(w.T, w.LDAP.Modify(request))
}

// Skerry is the base of a second directory.
const Skerry = "ou=Skerry," + Base

// TwoDirectories is a world whose agent serves a second directory, skerry, and
// settings by which one employee number is one person.
func TwoDirectories(t *testing.T) (*World, settings.Document) {
	t.Helper()
	w := NewWith(t, "dn: "+Skerry+"\nobjectClass: organizationalUnit\n\n", Options{Bare: true})
	w.enrol()
	text, err := os.ReadFile(w.AgentFile)
	require.NoError(t, err)
	_, first, _ := strings.Cut(string(text), "  - name: brisling\n")
	require.NoError(t, os.WriteFile(w.AgentFile, append(text, []byte("  - name: skerry\n"+first)...), 0o600))
	w.StartAgent()
	d := settings.Default(
		settings.Directory{Name: "brisling", Dialect: entry.Standard, Base: People, Containers: settings.Containers{Include: []string{People}}},
		settings.Directory{Name: "skerry", Dialect: entry.Standard, Base: Skerry, Containers: settings.Containers{Include: []string{Skerry}}})
	d.Schedule.Every = "off"
	d.Guard = settings.Guard{Removals: 50, Share: 100}
	d.Users.Person = []settings.PersonRule{{Name: "same number", From: "employeeNumber"}}
	d.Users.CarriedID = "description"
	for i := range d.Users.Rules {
		if d.Users.Rules[i].Target == "title" {
			d.Users.Rules[i].Prefer = []string{"skerry"}
		}
	}
	return w, d
}

// InSkerry adds a person to the second directory.
func (w *World) InSkerry(name string, values map[string]string) string {
	w.T.Helper()
	dn := "cn=" + name + "," + Skerry
	request := ldap.NewAddRequest(dn, nil)
	request.Attribute("objectClass", []string{"inetOrgPerson"})
	request.Attribute("sn", []string{name})
	for attribute, value := range values {
		request.Attribute(attribute, []string{value})
	}
	require.NoError(w.T, w.LDAP.Add(request))
	return dn
}

// Value reads the first value of an attribute as ldapsearch does.
func (w *World) Value(dn, attribute string) string {
	w.T.Helper()
	found, err := w.LDAP.Search(SearchBase(dn, attribute))
	require.NoError(w.T, err)
	require.Len(w.T, found.Entries, 1)
	return found.Entries[0].GetAttributeValue(attribute)
}
