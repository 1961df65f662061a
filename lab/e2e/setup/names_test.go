package setup_test

import (
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestNamesMeanTheLiving deletes somebody whose successor has the same login: names mean
// the one who is there, the other is told; names that somebody had once find them too.
func TestNamesMeanTheLiving(t *testing.T) {
	t.Parallel()
	w := worldtest.New(t, "")
	w.Activate(worldtest.Document())
	old := w.Person("Mira Old", map[string]string{"mail": "mira@brisling.example"})
	bo := w.Person("Bo Sund", map[string]string{"mail": "bo@brisling.example"})
	w.Person("Bo Sund the Second", map[string]string{"mail": "bo2@brisling.example"})
	w.InStep(3)
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(old, nil)))
	w.Run(wire.NewRun{})
	living := w.Person("Mira New", map[string]string{"mail": "mira@brisling.example"})
	w.Run(wire.NewRun{})

	out := w.Says([]string{"why", "mira@brisling.example"}, "called so too: "+old+", deleted from brisling", "linked to another entry")
	assert.True(t, strings.HasPrefix(out, "mira@brisling.example\n"), out)
	shown := worldtest.Reads[wire.Object](w, "show", "MIRA@brisling.example")
	require.NotNil(t, shown.Entry)
	assert.Equal(t, living, shown.Entry.DN)
	found := worldtest.Reads[wire.Everything](w, "find", "mira").Objects
	require.Len(t, found, 2)
	assert.Equal(t, []bool{false, true}, []bool{found[0].Gone, found[1].Gone}, "the living first")

	// A distinguished name in another spelling, and an id as other servers print it.
	spelled := "2.5.4.3=Mira  New , organizationalUnitName=people," + strings.ToUpper(worldtest.Base)
	w.Says([]string{"show", spelled}, living, "entryUUID", "nsUniqueId")
	for _, form := range shown.Entry.Forms {
		w.Says([]string{"why", form.Text}, "mira@brisling.example")
	}

	// A whole name comes before parts of one, and where a resource is asked for it is one.
	w.Says([]string{"show", "bo sund"}, bo+"   (user")
	w.Says([]string{"link", living, "mira@brisling.example"}, living, "Nothing was done yet")

	// What somebody was called before finds them.
	w.Set(bo, "mail", "bo.sund@brisling.example")
	w.Run(wire.NewRun{})
	w.Says([]string{"why", "bo@brisling.example"}, "bo.sund@brisling.example")
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest(bo, "cn=Bo Renamed", true, "")))
	w.Run(wire.NewRun{})
	w.Says([]string{"show", bo}, "cn=Bo Renamed")
}
