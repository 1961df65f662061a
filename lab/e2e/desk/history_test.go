package desk_test

import (
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestHowItWasIsRemembered tells of one person what happened when and by whom, and how entry,
// resource and why were before a rename, before a change by others, and before new settings.
func TestHowItWasIsRemembered(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	ada := w.Person("Ada Lind", map[string]string{"title": "Mate"})
	w.Activate(worldtest.Document())
	w.InStep(1)
	// now is a time that the service takes for over, whatever its clock counts in.
	now := func() string {
		w.Run(wire.NewRun{})
		return time.Now().Format(time.RFC3339Nano)
	}
	const login = "ada.lind@brisling.example"
	first := now()
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest(ada, "cn=Ada Vik", true, "")))
	w.Set("cn=Ada Vik,"+worldtest.People, "title", "Master")
	w.InStep(1)
	second := now()

	// Somebody changes the cloud by hand, and a run puts it right.
	w.ByHand(login, "title", "Cook")
	w.InStep(1)
	// New settings let nobody in any more, and she is deleted.
	d := worldtest.Document()
	d.Users.Filter = "(uid=nobody)"
	d.Guard.Removals = 5
	w.Activate(d)
	w.InStep(1)
	third := now()
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest("cn=Ada Vik,"+worldtest.People, nil)))
	now()

	was := w.Says([]string{"show", login, "--at", first}, "by settings revision 1", "entry     cn=Ada Lind,"+worldtest.People, "title", "Mate", "in: the container ou=People", "its resource is in step")
	assert.NotContains(t, was, "Master")
	w.Says([]string{"show", "cn=Ada Lind," + worldtest.People, "--at", first}, "Mate") // by the name that she had
	w.Says([]string{"show", login, "--at", second}, "entry     cn=Ada Vik,"+worldtest.People, "Master")
	w.Says([]string{"why", login, "--at", second}, "in: the container ou=People")
	w.Says([]string{"why", login, "--at", third}, "out:", "(uid=nobody)")
	w.Says([]string{"show", login, "--at", third}, "by settings revision 2", "not active")
	w.Refuses([]string{"show", login, "--at", "2020-01-01"}, "it is not known how")
	w.Refuses([]string{"show", login, "--at", "yesterday"}, "is no time")
	w.Refuses([]string{"show", login, "--at", "2199-01-01"}, "still to come")

	history := worldtest.Reads[wire.ObjectHistory](w, "history", login)
	var told []string
	for i, m := range history.Moments {
		told = append(told, m.Kind+": "+m.Text)
		if i > 0 {
			assert.False(t, m.At.After(history.Moments[i-1].At), "the newest first")
		}
		if m.Kind == "change" {
			assert.Equal(t, "administrator", m.By)
			assert.NotZero(t, m.Revision)
		}
		if m.Kind == "entry" {
			assert.NotZero(t, m.RunID, "the run that has read it")
		}
	}
	assert.Equal(t, []string{
		"entry: deleted from the directory", "change: suspend", "change: update", "resource: changed in the cloud by others", "change: update",
		"entry: renamed or moved in the directory", "change: create", "entry: first read from the directory brisling",
	}, told)
	w.Says([]string{"history", login}, `title: "Master" -> "Cook"`, `dn: "cn=Ada Lind,`, "written: suspend   (administrator, run")
}
