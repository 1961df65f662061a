package worldtest

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
)

// CloudGroups is the container of the groups of the cloud, Harbour another one.
const (
	CloudGroups = "ou=Cloud Groups," + Base
	Harbour     = "ou=Harbour," + Base
)

// Access is the right to write below both containers.
var groupAccess = func() string {
	lines := ""
	for _, container := range []string{CloudGroups, Harbour} {
		lines += fmt.Sprintf("access to dn.subtree=%q by dn.exact=\"uid=svc-kambrel,ou=Service Accounts,%s\" write by * break\n", container, Base)
	}
	return lines
}()

// WithCloudGroups is a world that keeps groups of the cloud: Anna, Bo and Cato are in step,
// Dora is in the cloud alone.
func WithCloudGroups(t *testing.T, o Options) *World {
	t.Helper()
	ldif := "dn: " + CloudGroups + "\nobjectClass: organizationalUnit\n\ndn: " + Harbour + "\nobjectClass: organizationalUnit\n\n"
	for _, name := range []string{"Anna", "Bo", "Cato"} {
		ldif += fmt.Sprintf("dn: cn=%s,%s\nobjectClass: inetOrgPerson\nuid: %s\nsn: %s\nmail: %s@brisling.example\n\n", name, People, strings.ToLower(name), name, strings.ToLower(name))
	}
	o.Access += groupAccess
	w := NewWith(t, ldif, o)
	w.Activate(GroupDocument(nil))
	w.InStep(3)
	w.InCloud("dora", map[string]any{"displayName": "Dora"})
	return w
}

// GroupDocument are settings by which groups of the cloud are kept.
func GroupDocument(change func(*settings.CloudGroups)) settings.Document {
	d := Document()
	d.Directories[0].Features = []entry.Feature{entry.FeatureCloudGroups}
	d.Directories[0].CloudGroups = &settings.CloudGroups{Container: CloudGroups}
	if change != nil {
		change(d.Directories[0].CloudGroups)
	}
	return d
}

// ID is that of a user or a group in the cloud by its login without domain, or its name.
func (w *World) ID(name string) string {
	w.T.Helper()
	if user := w.User(strings.ToLower(name) + "@brisling.example"); user != nil {
		return fmt.Sprint(user["id"])
	}
	group := Resources(w.T, w.Address(), "Groups")[name]
	require.NotNil(w.T, group, name)
	return fmt.Sprint(group["id"])
}

// CloudGroup makes a group in the cloud, as its administrator does.
func (w *World) CloudGroup(name string, members ...string) string {
	w.T.Helper()
	status, made := SCIM(w.T, w.Address(), "POST", w.Cloud.URL+"/Groups", map[string]any{"displayName": name, "members": w.refs(members)})
	require.Equal(w.T, 201, status, made)
	return fmt.Sprint(made["id"])
}

func (w *World) refs(names []string) []any {
	list := []any{}
	for _, name := range names {
		list = append(list, map[string]any{"value": w.ID(name)})
	}
	return list
}

// CloudMember adds a member to a group in the cloud, or removes it.
func (w *World) CloudMember(group string, add bool, name string) {
	w.T.Helper()
	operation := Operation("add", "members", w.refs([]string{name}))
	if !add {
		operation = Operation("remove", fmt.Sprintf("members[value eq %q]", w.ID(name)), nil)
	}
	Patch(w.T, w.Address(), "Groups/"+group, operation)
}

// RenameCloudGroup gives a group in the cloud another name.
func (w *World) RenameCloudGroup(id, name string) {
	w.T.Helper()
	Patch(w.T, w.Address(), "Groups/"+id, Operation("replace", "displayName", name))
}

// DropCloudGroup deletes a group in the cloud.
func (w *World) DropCloudGroup(id string) {
	w.T.Helper()
	status, answer := SCIM(w.T, w.Address(), "DELETE", w.Cloud.URL+"/Groups/"+id, nil)
	require.Equal(w.T, 204, status, answer)
}

// KeptGroup is a group as the directory has it.
type KeptGroup struct {
	DN, UUID, Mark string
	Members        []string // their first names
}

// KeptGroups lists the groups below a container by their first names.
func (w *World) KeptGroups(container string) map[string]KeptGroup {
	w.T.Helper()
	result, err := w.LDAP.Search(&ldap.SearchRequest{BaseDN: container, Scope: ldap.ScopeWholeSubtree, Filter: "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=groupOfMembers))", Attributes: []string{"cn", "member", "uniqueMember", "businessCategory", "entryUUID"}})
	require.NoError(w.T, err)
	out := map[string]KeptGroup{}
	for _, e := range result.Entries {
		group := KeptGroup{DN: e.DN, UUID: e.GetAttributeValue("entryUUID"), Mark: e.GetAttributeValue("businessCategory"), Members: []string{}}
		for _, member := range append(e.GetAttributeValues("member"), e.GetAttributeValues("uniqueMember")...) {
			dn, err := entry.ParseDN(member)
			require.NoError(w.T, err)
			group.Members = append(group.Members, dn.Name())
		}
		slices.Sort(group.Members)
		out[e.GetAttributeValue("cn")] = group
	}
	return out
}
