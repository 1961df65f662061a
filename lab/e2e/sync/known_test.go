package sync_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestWhatIsKnownOfACloudIsKeptTo has a cloud take filters that it does not heed, and lose each
// change of a part while it says that it was done. The probe names what reading can show, with
// the command for it; what the settings say is kept to from then on.
func TestWhatIsKnownOfACloudIsKeptTo(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, habitLDIF(), worldtest.Options{Cloud: []string{"--habits", "filter-ignored,parts-lost"}})
	w.Activate(worldtest.Document())
	w.InStep(2 * habitPeople) // managers follow
	id := idOf(w, "Users", "crew03@brisling.example")
	name := func() string {
		_, user := worldtest.SCIM(t, w.Address(), "GET", w.Cloud.URL+"/Users/"+id, nil)
		return fmt.Sprint(user["name"].(map[string]any)["givenName"])
	}
	w.Set("cn=Crew 03,"+worldtest.People, "givenName", "Nils")
	w.Run(wire.NewRun{})
	assert.Equal(t, map[string]string{"cn=Crew 03," + worldtest.People: string(problem.ValueAltered)}, w.Problems())
	require.Equal(t, "N03", name(), "the cloud loses it, and says that it was done")
	w.Says([]string{"cloud", "show"}, "name.givenName")

	w.Says([]string{"cloud", "probe"}, "24 users can be read", "look for a login: what nobody can be brings 24 users", "kambrel cloud habits set --without filter")
	w.Says([]string{"cloud", "habits"}, "Nothing is said of the cloud")
	w.Says([]string{"cloud", "habits", "set", "--without", "filter,pages", "--paging", "numbers", "--page-size", "-1"}, `"pages" is nothing that can be done without`, `"numbers" is no way to read lists`, "cloud.habits.pageSize", "cannot be activated")
	w.Says([]string{"cloud", "habits", "set", "--with", "pages", "--whole-attributes", "--page-size", "7", "--paging", "any"}, "filter is not used", "as a whole", "7 resources")
	w.Says([]string{"settings", "activate", "--yes"}, "Revision 2 is active")
	w.Says([]string{"cloud", "forget", "name.givenName"}, "1 resource")
	w.Set("cn=Crew 04,"+worldtest.People, "mail", "nils.crew@brisling.example")
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run)
	assert.Equal(t, 2, run.Counts.Done)
	assert.Equal(t, habitPeople, run.Counts.ResourcesRead, "all is read, since filters are not relied on")
	assert.Equal(t, "Nils", name())
	_, user := worldtest.SCIM(t, w.Address(), "GET", w.Cloud.URL+"/Users/"+idOf(w, "Users", "nils.crew@brisling.example"), nil)
	assert.Equal(t, []any{map[string]any{"primary": true, "type": "work", "value": "nils.crew@brisling.example"}}, user["emails"])
	shown := w.Says([]string{"cloud", "show"}, "not used, by the settings", "7 on a page", "parts of attributes")
	assert.NotContains(t, shown, "writes these values its own way")
	w.Says([]string{"cloud", "probe"}, "not used, by the settings", "24 users can be read")
	w.Says([]string{"cloud", "habits", "set", "--with", "filter", "--page-size", "0", "--whole-attributes=false"}, "Nothing is said of the cloud")
}
