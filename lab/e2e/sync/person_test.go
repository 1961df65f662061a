package sync_test

import (
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

func TestEntriesOfSeveralDirectoriesAreOnePerson(t *testing.T) {
	t.Parallel()
	w, d := worldtest.TwoDirectories(t)
	otto := w.Person("Otto Reksten", map[string]string{"employeeNumber": "7", "title": "Line Handler", "mobile": "1"})
	boss := w.Person("Bo Ss", nil)
	ottoAway := w.InSkerry("O Reksten", map[string]string{"mail": "or@brisling.example", "employeeNumber": "7", "title": "Crane Operator", "telephoneNumber": "+47 55", "manager": boss})
	cranes := ldap.NewAddRequest("cn=Cranes,"+worldtest.Skerry, nil)
	cranes.Attribute("objectClass", []string{"groupOfNames"})
	cranes.Attribute("member", []string{ottoAway})
	require.NoError(t, w.LDAP.Add(cranes))
	w.Activate(d)

	assert.Equal(t, map[string]int{"create": 2, "same-person": 1}, w.Outcomes())
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run)
	assert.Equal(t, 1, run.Counts.SamePerson)
	require.Len(t, worldtest.Users(t, w.Address(), ""), 2)
	resource := w.User("otto.reksten@brisling.example")
	require.NotNil(t, resource, "the first directory's login")
	assert.Equal(t, "Crane Operator", resource["title"], "the directory that the rule prefers")
	assert.Contains(t, resource["phoneNumbers"], map[string]any{"type": "work", "value": "+47 55"}, "the only one that has a value")
	out, stderr, status := w.Kambrel("why", ottoAway)
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "one person with "+otto+" of brisling, by same number")
	object := w.Why(otto)
	require.Len(t, object.Person, 2)
	assert.True(t, object.Person[0].Leads)
	assert.Equal(t, ottoAway, object.Person[1].DN)
	w.InStep(0)

	// What changes in the entry that follows is written to the one resource.
	w.Set(ottoAway, "title", "Master of Cranes")
	w.InStep(1)
	assert.Equal(t, "Master of Cranes", w.User("otto.reksten@brisling.example")["title"])
	assert.Equal(t, []string{"otto.reksten"}, worldtest.Members(t, w.Address(), "Cranes"), "a group that holds any of the entries holds the person")

	// Each directory names a manager; the first one counts until the rule prefers
	// the other, and then at once.
	w.Set(otto, "manager", boss)
	away := w.InSkerry("Away Boss", map[string]string{"mail": "away@brisling.example"})
	w.Set(ottoAway, "manager", away)
	w.InStep(2)
	assert.Equal(t, w.User("bo.ss@brisling.example")["id"], w.Manager("otto.reksten"))
	_, stderr, status = w.Kambrel("rules", "set", worldtest.ManagerTarget+":manager.value", "--reference", "manager", "--prefer", "skerry")
	require.Zero(t, status, stderr)
	_, stderr, status = w.Kambrel("settings", "activate", "--yes")
	require.Zero(t, status, stderr)
	w.InStep(1)
	assert.Equal(t, w.User("away@brisling.example")["id"], w.Manager("otto.reksten"))
	sources := map[string]string{}
	for _, value := range w.Why(otto).Attributes {
		sources[value.Target] = value.Source
	}
	assert.Equal(t, "reference manager, of skerry", sources[worldtest.ManagerTarget+":manager.value"])
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(away, nil)))
	run = w.Run(wire.NewRun{})
	assert.Equal(t, 1, run.Counts.Suspend, "%+v", run)
	assert.Equal(t, w.User("bo.ss@brisling.example")["id"], w.Manager("otto.reksten"), "the preferred one is gone, the other counts again")
	w.InStep(0)

	// The entry that leads goes: the other takes the link over, and nobody is suspended.
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(otto, nil)))
	run = w.InStep(2) // the login, and the manager whom only the old entry named
	assert.Zero(t, run.Counts.Suspend)
	moved := w.User("or@brisling.example")
	assert.Equal(t, resource["id"], moved["id"])
	assert.Equal(t, resource["externalId"], moved["externalId"], "the link key stays")
	assert.Equal(t, true, moved["active"])
	assert.Equal(t, []string{"or"}, worldtest.Members(t, w.Address(), "Cranes"))
	w.InStep(0)

	// And back, as another entry with the same number.
	w.Person("Otto Reksten", map[string]string{"employeeNumber": "7"})
	w.InStep(1)
	assert.Equal(t, resource["id"], w.User("otto.reksten@brisling.example")["id"])
	assert.Len(t, worldtest.Users(t, w.Address(), "active eq true"), 2)

	// Out of all scopes the person leaves, and comes back to the same account.
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest("cn=Otto Reksten,"+worldtest.People, nil)))
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(ottoAway, nil)))
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(cranes.DN, nil)))
	run = w.Run(wire.NewRun{})
	assert.Equal(t, 1, run.Counts.Suspend)
	w.Person("Otto R", map[string]string{"employeeNumber": "7"})
	run = w.InStep(1)
	assert.Equal(t, 1, run.Counts.Restore)
	assert.Equal(t, resource["id"], w.User("otto.r@brisling.example")["id"])
}

func TestACarriedIDKeepsTheResourceOnAMove(t *testing.T) {
	t.Parallel()
	w, d := worldtest.TwoDirectories(t)
	eli := w.Person("Eli Aas", nil)
	w.Activate(d)
	w.InStep(1)
	before := w.User("eli.aas@brisling.example")
	found, err := w.LDAP.Search(worldtest.SearchBase(eli, "entryUUID"))
	require.NoError(t, err)
	id := found.Entries[0].GetAttributeValue("entryUUID")
	assert.Equal(t, id, before["externalId"])

	// First the old entry goes, then the new one comes, days later.
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(eli, nil)))
	w.InStep(1)
	w.InSkerry("Eli Aas", map[string]string{"mail": "eli@brisling.example", "description": id})
	run := w.InStep(1)
	assert.Equal(t, 1, run.Counts.Restore)
	after := w.User("eli@brisling.example")
	assert.Equal(t, before["id"], after["id"])
	assert.Equal(t, true, after["active"])

	// A database that knows no links finds the resource by the carried id.
	require.NoError(t, w.Client.RemoveDirectory(t.Context(), "skerry", "skerry"))
	active, err := w.Client.Settings(t.Context())
	require.NoError(t, err)
	for _, rule := range active.Document.Users.Rules {
		assert.Empty(t, rule.Prefer, "no rule prefers a directory that was taken away")
	}
	w.Activate(d)
	w.InStep(0)
	assert.Equal(t, after["id"], w.User("eli@brisling.example")["id"])
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 1)
}

func TestWhoCannotBeToldApartOrIsThereTwiceIsNamed(t *testing.T) {
	t.Parallel()
	w, d := worldtest.TwoDirectories(t)
	first := w.Person("Anna One", map[string]string{"employeeNumber": "7"})
	second := w.Person("Anna Two", map[string]string{"employeeNumber": "7"})
	third := w.InSkerry("Anna", map[string]string{"mail": "anna@brisling.example", "employeeNumber": "7"})
	twice := w.Person("Bo Ness", map[string]string{"employeeNumber": "8"})
	other := w.InSkerry("Bo", map[string]string{"mail": "bo@brisling.example", "employeeNumber": "9"})
	w.Activate(d)
	run := w.Run(wire.NewRun{})
	assert.Equal(t, 3, run.Counts.Problems)
	assert.Equal(t, map[string]string{first: "person-ambiguous", second: "person-ambiguous", third: "person-ambiguous"}, w.Problems())
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 2)

	w.Set(second, "employeeNumber", "17")
	w.Set(other, "employeeNumber", "8")
	w.Run(wire.NewRun{})
	assert.Equal(t, map[string]string{other: "person-two-resources"}, w.Problems())
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 4, "the two Annas are two, of whom one is in both directories")

	// One is let go; its entry then follows the other.
	out, stderr, status := w.Kambrel("unlink", other, "--yes")
	require.Zero(t, status, out+stderr)
	w.Run(wire.NewRun{})
	assert.Empty(t, w.Problems())
	require.Len(t, w.Why(other).Person, 2)
	assert.Equal(t, twice, w.Why(other).Person[0].DN)
	_, stderr, status = w.Kambrel("create", other, "--yes")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "one person with "+twice)

	// Without person rules everybody stands for themselves again.
	d.Users.Person, d.Users.CarriedID = nil, ""
	w.Activate(d)
	run = w.Run(wire.NewRun{Purpose: purpose.Rehearsal})
	assert.Zero(t, run.Counts.SamePerson)
	assert.Equal(t, 1, run.Counts.Create, "%+v", run.Counts)
}
