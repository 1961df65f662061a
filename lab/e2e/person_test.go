package e2e

import (
	"os"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
)

const skerry = "ou=Skerry," + base

// twoDirectories is a world whose agent serves a second directory, Skerry, and
// settings by which one employee number is one person.
func twoDirectories(t *testing.T) (*world, settings.Document) {
	t.Helper()
	w := newWorldWith(t, "dn: "+skerry+"\nobjectClass: organizationalUnit\n\n", options{bare: true})
	w.enrol()
	text, err := os.ReadFile(w.agentFile)
	require.NoError(t, err)
	_, first, _ := strings.Cut(string(text), "  - name: brisling\n")
	require.NoError(t, os.WriteFile(w.agentFile, append(text, []byte("  - name: skerry\n"+first)...), 0o600))
	w.startAgent()
	d := settings.Default(
		settings.Directory{Name: "brisling", Dialect: entry.Standard, Base: people, Containers: settings.Containers{Include: []string{people}}},
		settings.Directory{Name: "skerry", Dialect: entry.Standard, Base: skerry, Containers: settings.Containers{Include: []string{skerry}}})
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

// inSkerry adds a person to the second directory.
func (w *world) inSkerry(name string, values map[string]string) string {
	w.t.Helper()
	dn := "cn=" + name + "," + skerry
	request := ldap.NewAddRequest(dn, nil)
	request.Attribute("objectClass", []string{"inetOrgPerson"})
	request.Attribute("sn", []string{name})
	for attribute, value := range values {
		request.Attribute(attribute, []string{value})
	}
	require.NoError(w.t, w.ldap.Add(request))
	return dn
}

func (w *world) why(text string) wire.Object {
	w.t.Helper()
	object, err := w.client.Object(w.t.Context(), text)
	require.NoError(w.t, err)
	return object
}

func TestEntriesOfSeveralDirectoriesAreOnePerson(t *testing.T) {
	t.Parallel()
	w, d := twoDirectories(t)
	otto := w.person("Otto Reksten", map[string]string{"employeeNumber": "7", "title": "Line Handler", "mobile": "1"})
	boss := w.person("Bo Ss", nil)
	ottoAway := w.inSkerry("O Reksten", map[string]string{"mail": "or@brisling.example", "employeeNumber": "7", "title": "Crane Operator", "telephoneNumber": "+47 55", "manager": boss})
	cranes := ldap.NewAddRequest("cn=Cranes,"+skerry, nil)
	cranes.Attribute("objectClass", []string{"groupOfNames"})
	cranes.Attribute("member", []string{ottoAway})
	require.NoError(t, w.ldap.Add(cranes))
	w.activate(d)

	assert.Equal(t, map[string]int{"create": 2, "same-person": 1}, w.outcomes())
	run := w.run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run)
	assert.Equal(t, 1, run.Counts.SamePerson)
	require.Len(t, users(t, w.address(), ""), 2)
	resource := w.user("otto.reksten@brisling.example")
	require.NotNil(t, resource, "the first directory's login")
	assert.Equal(t, "Crane Operator", resource["title"], "the directory that the rule prefers")
	assert.Contains(t, resource["phoneNumbers"], map[string]any{"type": "work", "value": "+47 55"}, "the only one that has a value")
	out, stderr, status := w.kambrel("why", ottoAway)
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "one person with "+otto+" of brisling, by same number")
	object := w.why(otto)
	require.Len(t, object.Person, 2)
	assert.True(t, object.Person[0].Leads)
	assert.Equal(t, ottoAway, object.Person[1].DN)
	w.inStep(0)

	// What changes in the entry that follows is written to the one resource.
	w.set(ottoAway, "title", "Master of Cranes")
	w.inStep(1)
	assert.Equal(t, "Master of Cranes", w.user("otto.reksten@brisling.example")["title"])
	assert.Equal(t, []string{"otto.reksten"}, members(t, w.address(), "Cranes"), "a group that holds any of the entries holds the person")

	// Each directory names a manager; the first one counts until the rule prefers
	// the other, and then at once.
	w.set(otto, "manager", boss)
	away := w.inSkerry("Away Boss", map[string]string{"mail": "away@brisling.example"})
	w.set(ottoAway, "manager", away)
	w.inStep(2)
	assert.Equal(t, w.user("bo.ss@brisling.example")["id"], w.manager("otto.reksten"))
	_, stderr, status = w.kambrel("rules", "set", managerTarget+":manager.value", "--reference", "manager", "--prefer", "skerry")
	require.Zero(t, status, stderr)
	_, stderr, status = w.kambrel("settings", "activate", "--yes")
	require.Zero(t, status, stderr)
	w.inStep(1)
	assert.Equal(t, w.user("away@brisling.example")["id"], w.manager("otto.reksten"))
	sources := map[string]string{}
	for _, value := range w.why(otto).Attributes {
		sources[value.Target] = value.Source
	}
	assert.Equal(t, "reference manager, of skerry", sources[managerTarget+":manager.value"])
	require.NoError(t, w.ldap.Del(ldap.NewDelRequest(away, nil)))
	run = w.run(wire.NewRun{})
	assert.Equal(t, 1, run.Counts.Suspend, "%+v", run)
	assert.Equal(t, w.user("bo.ss@brisling.example")["id"], w.manager("otto.reksten"), "the preferred one is gone, the other counts again")
	w.inStep(0)

	// The entry that leads goes: the other takes the link over, and nobody is suspended.
	require.NoError(t, w.ldap.Del(ldap.NewDelRequest(otto, nil)))
	run = w.inStep(2) // the login, and the manager whom only the old entry named
	assert.Zero(t, run.Counts.Suspend)
	moved := w.user("or@brisling.example")
	assert.Equal(t, resource["id"], moved["id"])
	assert.Equal(t, resource["externalId"], moved["externalId"], "the link key stays")
	assert.Equal(t, true, moved["active"])
	assert.Equal(t, []string{"or"}, members(t, w.address(), "Cranes"))
	w.inStep(0)

	// And back, as another entry with the same number.
	w.person("Otto Reksten", map[string]string{"employeeNumber": "7"})
	w.inStep(1)
	assert.Equal(t, resource["id"], w.user("otto.reksten@brisling.example")["id"])
	assert.Len(t, users(t, w.address(), "active eq true"), 2)

	// Out of all scopes the person leaves, and comes back to the same account.
	require.NoError(t, w.ldap.Del(ldap.NewDelRequest("cn=Otto Reksten,"+people, nil)))
	require.NoError(t, w.ldap.Del(ldap.NewDelRequest(ottoAway, nil)))
	require.NoError(t, w.ldap.Del(ldap.NewDelRequest(cranes.DN, nil)))
	run = w.run(wire.NewRun{})
	assert.Equal(t, 1, run.Counts.Suspend)
	w.person("Otto R", map[string]string{"employeeNumber": "7"})
	run = w.inStep(1)
	assert.Equal(t, 1, run.Counts.Restore)
	assert.Equal(t, resource["id"], w.user("otto.r@brisling.example")["id"])
}

func TestACarriedIDKeepsTheResourceOnAMove(t *testing.T) {
	t.Parallel()
	w, d := twoDirectories(t)
	eli := w.person("Eli Aas", nil)
	w.activate(d)
	w.inStep(1)
	before := w.user("eli.aas@brisling.example")
	found, err := w.ldap.Search(searchBase(eli, "entryUUID"))
	require.NoError(t, err)
	id := found.Entries[0].GetAttributeValue("entryUUID")
	assert.Equal(t, id, before["externalId"])

	// First the old entry goes, then the new one comes, days later.
	require.NoError(t, w.ldap.Del(ldap.NewDelRequest(eli, nil)))
	w.inStep(1)
	w.inSkerry("Eli Aas", map[string]string{"mail": "eli@brisling.example", "description": id})
	run := w.inStep(1)
	assert.Equal(t, 1, run.Counts.Restore)
	after := w.user("eli@brisling.example")
	assert.Equal(t, before["id"], after["id"])
	assert.Equal(t, true, after["active"])

	// A database that knows no links finds the resource by the carried id.
	require.NoError(t, w.client.RemoveDirectory(t.Context(), "skerry", "skerry"))
	active, err := w.client.Settings(t.Context())
	require.NoError(t, err)
	for _, rule := range active.Document.Users.Rules {
		assert.Empty(t, rule.Prefer, "no rule prefers a directory that was taken away")
	}
	w.activate(d)
	w.inStep(0)
	assert.Equal(t, after["id"], w.user("eli@brisling.example")["id"])
	assert.Len(t, users(t, w.address(), ""), 1)
}

func TestWhoCannotBeToldApartOrIsThereTwiceIsNamed(t *testing.T) {
	t.Parallel()
	w, d := twoDirectories(t)
	first := w.person("Anna One", map[string]string{"employeeNumber": "7"})
	second := w.person("Anna Two", map[string]string{"employeeNumber": "7"})
	third := w.inSkerry("Anna", map[string]string{"mail": "anna@brisling.example", "employeeNumber": "7"})
	twice := w.person("Bo Ness", map[string]string{"employeeNumber": "8"})
	other := w.inSkerry("Bo", map[string]string{"mail": "bo@brisling.example", "employeeNumber": "9"})
	w.activate(d)
	run := w.run(wire.NewRun{})
	assert.Equal(t, 3, run.Counts.Problems)
	assert.Equal(t, map[string]string{first: "person-ambiguous", second: "person-ambiguous", third: "person-ambiguous"}, w.problems())
	assert.Len(t, users(t, w.address(), ""), 2)

	w.set(second, "employeeNumber", "17")
	w.set(other, "employeeNumber", "8")
	w.run(wire.NewRun{})
	assert.Equal(t, map[string]string{other: "person-two-resources"}, w.problems())
	assert.Len(t, users(t, w.address(), ""), 4, "the two Annas are two, of whom one is in both directories")

	// One is let go; its entry then follows the other.
	out, stderr, status := w.kambrel("unlink", other, "--yes")
	require.Zero(t, status, out+stderr)
	w.run(wire.NewRun{})
	assert.Empty(t, w.problems())
	require.Len(t, w.why(other).Person, 2)
	assert.Equal(t, twice, w.why(other).Person[0].DN)
	_, stderr, status = w.kambrel("create", other, "--yes")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "one person with "+twice)

	// Without person rules everybody stands for themselves again.
	d.Users.Person, d.Users.CarriedID = nil, ""
	w.activate(d)
	run = w.run(wire.NewRun{Purpose: purpose.Rehearsal})
	assert.Zero(t, run.Counts.SamePerson)
	assert.Equal(t, 1, run.Counts.Create, "%+v", run.Counts)
}
