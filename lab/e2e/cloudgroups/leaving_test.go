package cloudgroups_test

import (
	"fmt"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestWhatIsDeletedInTheDirectoryWaitsForAWord deletes the entries of groups, and lets one
// be made again and another stay away.
func TestWhatIsDeletedInTheDirectoryWaitsForAWord(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{})
	w.CloudGroup("Regatta", "Anna")
	w.CloudGroup("Board", "Bo")
	well(w)
	was := w.KeptGroups(worldtest.CloudGroups)
	for _, group := range was {
		require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(group.DN, nil)))
	}
	rehearsed := w.Run(wire.NewRun{Purpose: purpose.Rehearsal})
	assert.Equal(t, 2, rehearsed.Counts.Held, "%+v", rehearsed.Counts)
	run := w.Run(wire.NewRun{})
	require.Equal(t, 2, run.Counts.Held, "%+v", run.Counts)
	assert.Equal(t, "make 2 groups again that were deleted in the directory, with another identity", run.Counts.HeldText())
	assert.Empty(t, w.KeptGroups(worldtest.CloudGroups))
	w.Says([]string{"cloud-groups", "show", "Regatta"}, "lost", "The group was deleted in the directory", "another identity")
	run = w.Run(wire.NewRun{})
	require.Equal(t, 2, run.Counts.Held, "it waits as long as it takes")

	changes, err := w.Client.Changes(t.Context(), run.ID, map[string][]string{"state": {"held"}})
	require.NoError(t, err)
	require.Len(t, changes.Items, 2)
	for _, c := range changes.Items {
		verb := "release"
		if c.Name == "Board" {
			verb = "discard"
		}
		args := []string{"runs", verb, fmt.Sprint(run.ID), "--change", fmt.Sprint(c.ID), "--yes"}
		if verb == "discard" {
			args = append(args, "--reason", "nobody needs it")
		}
		out, stderr, status := w.Kambrel(args...)
		assert.NotEqual(t, 1, status, "%s%s", out, stderr)
	}
	well(w)
	kept := w.KeptGroups(worldtest.CloudGroups)
	require.Len(t, kept, 1)
	assert.Equal(t, []string{"Anna"}, kept["Regatta"].Members)
	assert.NotEqual(t, was["Regatta"].UUID, kept["Regatta"].UUID)
	w.Says([]string{"cloud-groups", "list"}, "forgone")
	out, _, _ := w.Kambrel("cloud-groups", "decide-again", "Board")
	assert.Contains(t, out, "make 1 group again")
}

// TestGroupsThatAreNoLongerKeptGoWhenTheirTimeIsOver excepts one, deletes another in the
// cloud, and brings the first back.
func TestGroupsThatAreNoLongerKeptGoWhenTheirTimeIsOver(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{})
	regatta := w.CloudGroup("Regatta", "Anna")
	board := w.CloudGroup("Board", "Bo", "Regatta")
	well(w)
	was := w.KeptGroups(worldtest.CloudGroups)

	w.Says([]string{"cloud-groups", "except", "Regatta"}, "except")
	w.DropCloudGroup(board)
	out, _, status := w.Kambrel("impact")
	assert.Zero(t, status, out)
	assert.Contains(t, out, "2 groups will be deleted")
	w.Says([]string{"settings", "activate", "--yes"})
	run := well(w)
	assert.Equal(t, 2, run.Counts.Leave, "%+v", run.Counts)
	assert.Len(t, w.KeptGroups(worldtest.CloudGroups), 2, "they stay for the grace time")
	w.Says([]string{"cloud-groups", "list"}, "leaving")
	w.CloudMember(regatta, true, "Cato")
	w.InStep(0)

	w.Says([]string{"cloud-groups", "except", "Regatta", "--undo"})
	w.Says([]string{"settings", "activate", "--yes"})
	well(w)
	kept := w.KeptGroups(worldtest.CloudGroups)
	assert.Equal(t, was["Regatta"].UUID, kept["Regatta"].UUID)
	assert.Equal(t, []string{"Anna", "Cato"}, kept["Regatta"].Members, "it goes on where it stopped")

	w.Activate(worldtest.GroupDocument(func(c *settings.CloudGroups) { c.Grace = "0s" }))
	well(w)
	require.Len(t, w.KeptGroups(worldtest.CloudGroups), 2, "what was said holds")
	w.DropCloudGroup(regatta)
	well(w)
	well(w)
	kept = w.KeptGroups(worldtest.CloudGroups)
	assert.NotContains(t, kept, "Regatta")
	assert.Contains(t, kept, "Board")
}

// TestManyLeavingGroupsAreHeld takes most groups out by mistake.
func TestManyLeavingGroupsAreHeld(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{})
	for i := range 12 {
		w.CloudGroup(fmt.Sprintf("Crew %02d", i), "Anna")
	}
	well(w)
	document := worldtest.GroupDocument(func(c *settings.CloudGroups) { c.Filter = `displayName sw "Team"` })
	document.Guard.Removals = 5
	w.Activate(document)
	run := w.Run(wire.NewRun{})
	assert.Equal(t, 12, run.Counts.Held, "%+v", run.Counts)
	w.Activate(worldtest.GroupDocument(nil))
	run = well(w)
	assert.Zero(t, run.Counts.Held, "the cause is corrected")
	assert.Len(t, w.KeptGroups(worldtest.CloudGroups), 12)
}

// TestNoneOfTheseGroupsGoesBackToTheCloud keeps them in a container whose groups go to the
// cloud, and forgets all that Kambrel knew of them.
func TestNoneOfTheseGroupsGoesBackToTheCloud(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{})
	document := worldtest.GroupDocument(nil)
	document.Directories[0].Containers.Include = append(document.Directories[0].Containers.Include, worldtest.CloudGroups)
	w.Activate(document)
	w.CloudGroup("Regatta", "Anna")
	w.CloudGroup("Board", "Regatta", "Bo")
	well(w)
	own := ldap.NewAddRequest("cn=Deck,"+worldtest.CloudGroups, nil)
	own.Attribute("objectClass", []string{"groupOfNames"})
	own.Attribute("member", []string{"cn=Cato," + worldtest.People})
	require.NoError(t, w.LDAP.Add(own))
	for _, why := range []purpose.Purpose{purpose.Sync, purpose.Full, purpose.Sync} {
		w.Run(wire.NewRun{Purpose: why})
		groups := worldtest.Resources(t, w.Address(), "Groups")
		assert.Len(t, groups, 3, "the directory's own group alone comes: %v", groups)
	}
	assert.Len(t, w.KeptGroups(worldtest.CloudGroups), 3)
	w.Says([]string{"why", "cn=Regatta," + worldtest.CloudGroups}, "the group Regatta of the cloud owns it")
	w.Says([]string{"scope", "count"}, "owned by groups of the cloud")
}

// TestAGroupIsHandedOver turns the direction of a group, and back, with both objects kept.
func TestAGroupIsHandedOver(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{})
	document := worldtest.GroupDocument(nil)
	document.Directories[0].Containers.Include = append(document.Directories[0].Containers.Include, worldtest.CloudGroups)
	w.Activate(document)
	regatta := w.CloudGroup("Regatta", "Anna", "Dora")
	well(w)
	uuid := w.KeptGroups(worldtest.CloudGroups)["Regatta"].UUID

	out, _, status := w.Kambrel("cloud-groups", "hand-over", "Regatta", "--to", "directory")
	assert.Zero(t, status)
	assert.Contains(t, out, "1 members of the group in the cloud are none of the entry")
	assert.Contains(t, out, "Nothing was done yet")
	w.InStep(0)
	w.Says([]string{"cloud-groups", "hand-over", "Regatta", "--to", "directory", "--yes"})
	w.Member("cn=Regatta,"+worldtest.CloudGroups, true, "cn=Bo,"+worldtest.People)
	w.Run(wire.NewRun{})
	assert.Equal(t, []string{"anna", "bo"}, worldtest.Members(t, w.Address(), "Regatta"), "the directory decides now")
	assert.Equal(t, regatta, w.ID("Regatta"))
	w.InStep(0)

	w.Says([]string{"cloud-groups", "hand-over", "Regatta", "--to", "cloud", "--yes"}, "The cloud owns Regatta")
	w.CloudMember(regatta, false, "Anna")
	w.Run(wire.NewRun{})
	kept := w.KeptGroups(worldtest.CloudGroups)["Regatta"]
	assert.Equal(t, []string{"Bo"}, kept.Members)
	assert.Equal(t, uuid, kept.UUID)
	w.InStep(0)
	w.Refuses([]string{"cloud-groups", "hand-over", "Regatta", "--to", "cloud"}, "owns Regatta already")
}

// TestDriftIsToldWithWhoDidIt changes entries of groups by hand.
func TestDriftIsToldWithWhoDidIt(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{})
	w.CloudGroup("Regatta", "Anna")
	well(w)
	dn := w.KeptGroups(worldtest.CloudGroups)["Regatta"].DN
	w.Member(dn, true, "cn=Cato,"+worldtest.People)
	w.Set(dn, "description", "ours")
	run := well(w)
	assert.Equal(t, 2, run.Counts.Changes, "%+v", run.Counts)
	assert.Equal(t, []string{"Anna"}, w.KeptGroups(worldtest.CloudGroups)["Regatta"].Members)
	assert.NotEqual(t, "ours", w.Value(dn, "description"))
	w.Says([]string{"cloud-groups", "drift"}, "by cn=admin,"+worldtest.Base, "-Cato", `description: "ours"`, fmt.Sprintf("put back by run %d", run.ID))
	w.Says([]string{"cloud-groups", "list", "--show", "drift"}, "Regatta")
	page, err := w.Client.Drift(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, 2, page.Total)
	assert.Equal(t, progress.InStep, run.State)
}

// TestManyMembersAreHeld empties a group in the cloud by mistake, and lets its members stay
// in the directory until they are members in the cloud again.
func TestManyMembersAreHeld(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{})
	var names, hands []string
	for i := range 12 {
		names = append(names, fmt.Sprintf("Hand%02d", i))
		w.Person(names[i], nil)
		hands = append(hands, fmt.Sprintf("Hand%02d", i))
	}
	w.InStep(12)
	regatta := w.CloudGroup("Regatta", names...)
	well(w)
	for _, name := range names {
		w.CloudMember(regatta, false, name)
	}
	run := w.Run(wire.NewRun{})
	require.Equal(t, 1, run.Counts.Held, "%+v", run.Counts)
	assert.Equal(t, "take 12 members out of 1 groups", run.Counts.HeldText())
	members := func() []string { return w.KeptGroups(worldtest.CloudGroups)["Regatta"].Members }
	assert.Equal(t, hands, members())
	w.Kambrel("runs", "discard", fmt.Sprint(run.ID), "--reason", "a mistake in the cloud", "--yes")
	well(w)
	assert.Equal(t, hands, members(), "they stay")
	w.Says([]string{"cloud-groups", "show", "Regatta"}, "stay by an operator's word: cn=Hand00,")
	w.CloudMember(regatta, true, names[0])
	well(w)
	w.CloudMember(regatta, false, names[0])
	well(w)
	assert.Equal(t, hands[1:], members(), "who came back and goes again, goes")
}
