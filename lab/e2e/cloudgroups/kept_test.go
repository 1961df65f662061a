package cloudgroups_test

import (
	"fmt"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// well runs, and asks for no problem.
func well(w *worldtest.World) wire.Run {
	w.T.Helper()
	run := w.Run(wire.NewRun{})
	if run.State != progress.InStep {
		out, _, _ := w.Kambrel("runs", "show", fmt.Sprint(run.ID))
		require.Failf(w.T, "not in step", "%s", out)
	}
	return run
}

// TestGroupsOfTheCloudAreKeptInTheDirectory makes, fills, renames, moves and empties groups
// in the cloud, and finds the same entries with exactly those members who are there.
func TestGroupsOfTheCloudAreKeptInTheDirectory(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{})
	committee := w.CloudGroup("Regatta Committee", "Anna", "Bo", "Dora")
	w.CloudGroup("Safety Board", "Regatta Committee", "Cato")
	well(w)
	kept := w.KeptGroups(worldtest.CloudGroups)
	require.Len(t, kept, 2)
	assert.Equal(t, []string{"Anna", "Bo"}, kept["Regatta Committee"].Members)
	assert.Equal(t, []string{"Cato", "Regatta Committee"}, kept["Safety Board"].Members)
	assert.Equal(t, committee, kept["Regatta Committee"].Mark)
	uuid := kept["Regatta Committee"].UUID
	w.InStep(0)
	w.InStep(0)
	assert.Len(t, worldtest.Resources(t, w.Address(), "Groups"), 2, "none of them went back to the cloud")

	w.RenameCloudGroup(committee, "Regatta, Committee")
	w.CloudMember(committee, true, "Cato")
	w.CloudMember(committee, false, "Bo")
	w.InStep(3) // the group, its members, and the name by which the board holds it
	kept = w.KeptGroups(worldtest.CloudGroups)
	require.Contains(t, kept, "Regatta, Committee")
	assert.Equal(t, uuid, kept["Regatta, Committee"].UUID, "it is the same entry")
	assert.Equal(t, []string{"Anna", "Cato"}, kept["Regatta, Committee"].Members)
	assert.Equal(t, []string{"Cato", "Regatta, Committee"}, w.KeptGroups(worldtest.CloudGroups)["Safety Board"].Members)
	w.InStep(0)

	// Somebody changes it in the directory.
	w.Member(kept["Regatta, Committee"].DN, true, "cn=Bo,"+worldtest.People)
	w.Member(kept["Regatta, Committee"].DN, false, "cn=Anna,"+worldtest.People)
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest(w.KeptGroups(worldtest.CloudGroups)["Safety Board"].DN, "cn=Mine", true, worldtest.Harbour)))
	well(w)
	kept = w.KeptGroups(worldtest.CloudGroups)
	require.Len(t, kept, 2)
	assert.Equal(t, []string{"Anna", "Cato"}, kept["Regatta, Committee"].Members)
	assert.Equal(t, uuid, kept["Regatta, Committee"].UUID)
	w.InStep(0)

	// Another container moves them.
	w.Activate(worldtest.GroupDocument(func(c *settings.CloudGroups) { c.Container = worldtest.Harbour }))
	well(w)
	assert.Empty(t, w.KeptGroups(worldtest.CloudGroups))
	kept = w.KeptGroups(worldtest.Harbour)
	require.Len(t, kept, 2)
	assert.Equal(t, uuid, kept["Regatta, Committee"].UUID)
}
