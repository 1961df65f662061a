package setup_test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/protocol/wire"
)

// TestA389DirectoryServerIsKeptInStep connects one as a newcomer does: the text of rights is
// handed over and carried out word by word, which is all that its account may; then people,
// locks, groups of the cloud and repairs go their way, and nobody becomes somebody else when
// the server gives everybody another id beside the one that counts.
func TestA389DirectoryServerIsKeptInStep(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(12)+"dn: "+worldtest.CloudGroups+"\nobjectClass: organizationalUnit\n\n", worldtest.Options{
		Instead: func(ctx context.Context, lab *servers.Lab, base, ldif string) (*servers.LDAPServer, error) {
			return lab.StartDS389(ctx, "ds389", servers.DS389Options{BaseDN: base, LDIF: ldif})
		}})
	brisling := worldtest.GroupDocument(nil).Directories[0]
	brisling.Dialect = entry.DS389
	brisling.Features = append(brisling.Features, entry.FeatureRepair, entry.FeatureResetPasswords, entry.FeatureUnlock)
	d := settings.Default(brisling)
	d.Schedule.Every = "off"
	w.Activate(d)
	text := w.Says([]string{"directory", "rights", "brisling", "--account", w.Directory.ReaderDN}, "an access control instruction, to add to the attribute aci")
	_, _, status := w.Kambrel("directory", "probe", "brisling")
	assert.Equal(t, 2, status, "the account may nothing yet")
	container, rights := "", map[string][]string{}
	for line := range strings.Lines(text) {
		if place, is := strings.CutPrefix(strings.TrimSpace(line), "On "); is {
			container = strings.TrimSuffix(place, " and everything below:")
		}
		if instruction, is := strings.CutPrefix(strings.TrimSpace(line), "aci: "); is {
			request := ldap.NewModifyRequest(container, nil)
			request.Add("aci", []string{instruction})
			require.NoError(t, w.LDAP.Modify(request), instruction)
			rights[container] = append(rights[container], instruction)
		}
	}
	w.Says([]string{"directory", "probe", "brisling"}, "389-Directory", "modifyTimestamp", "may write the attributes that surveys repair", "may unlock accounts", "may write groups in "+worldtest.CloudGroups)
	w.InStep(12)

	// Live, by a search that stays open.
	d.Schedule.Live = "on"
	w.Activate(d)
	require.Eventually(t, func() bool {
		out, _, _ := w.Kambrel("agent", "list")
		return strings.Contains(out, "brisling watched")
	}, 20*time.Second, 50*time.Millisecond)
	w.Set(worldtest.Crew(3), "title", "Purser")
	w.Arrives("crew00003@brisling.example", "Purser")
	w.Set(worldtest.Crew(4), "nsAccountLock", "true")
	require.Eventually(t, func() bool { return w.User("crew00004@brisling.example")["active"] == false }, 20*time.Second, 20*time.Millisecond, "who is locked for good is disabled")
	require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(worldtest.Crew(5), nil)))
	require.Eventually(t, func() bool { return w.User("crew00005@brisling.example")["active"] == false }, 20*time.Second, 20*time.Millisecond)

	// A group of the cloud is kept, with those who are in step.
	id := w.CloudGroup("Regatta", "crew00001", "crew00002")
	require.Eventually(t, func() bool {
		group := w.KeptGroups(worldtest.CloudGroups)["Regatta"]
		return group.Mark == id && slices.Equal(group.Members, []string{"Crew 00001", "Crew 00002"})
	}, 20*time.Second, 50*time.Millisecond)

	// Everybody who came by an import gets an entryUUID, and stays who they are.
	d.Schedule.Live = "off"
	w.Activate(d)
	task := ldap.NewAddRequest("cn=give,cn=entryuuid task,cn=tasks,cn=config", nil)
	task.Attribute("objectClass", []string{"top", "extensibleObject"})
	task.Attribute("basedn", []string{worldtest.Base})
	task.Attribute("filter", []string{"(objectClass=*)"})
	require.NoError(t, w.LDAP.Add(task))
	require.Eventually(t, func() bool {
		found, err := w.LDAP.Search(worldtest.SearchBase(worldtest.Crew(1), "entryUUID"))
		return err == nil && len(found.Entries) == 1 && found.Entries[0].GetAttributeValue("entryUUID") != ""
	}, 20*time.Second, 50*time.Millisecond)

	// Without its rights, the account is answered as if there were nobody, which nobody pays for.
	request := ldap.NewModifyRequest(worldtest.Base, nil)
	request.Delete("aci", nil)
	require.NoError(t, w.LDAP.Modify(request))
	blind := w.Run(wire.NewRun{Purpose: purpose.Full})
	require.NotNil(t, blind.Failure)
	assert.Equal(t, string(problem.ContainerMissing), blind.Failure.Code)
	request = ldap.NewModifyRequest(worldtest.Base, nil)
	request.Add("aci", rights[worldtest.Base])
	require.NoError(t, w.LDAP.Modify(request))
	run := w.Run(wire.NewRun{Purpose: purpose.Full})
	require.Nil(t, run.Failure)
	assert.Zero(t, run.Counts.Create+run.Counts.Suspend+run.Counts.Delete, "%+v", run.Counts)
	assert.Len(t, worldtest.Users(t, w.Address(), ""), 12)
}
