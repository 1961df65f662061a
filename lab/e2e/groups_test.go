package e2e

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
)

const teams = "ou=Teams," + base

// teamsLDIF is the container that groups lie in.
const teamsLDIF = "dn: " + teams + "\nobjectClass: organizationalUnit\n\n"

// withGroups are settings that include the teams.
func withGroups() settings.Document {
	d := document()
	d.Directories[0].Containers.Include = append(d.Directories[0].Containers.Include, teams)
	return d
}

// group adds a group to the directory.
func (w *world) group(name string, members ...string) string {
	w.t.Helper()
	dn := "cn=" + name + "," + teams
	request := ldap.NewAddRequest(dn, nil)
	request.Attribute("objectClass", []string{"groupOfNames"})
	request.Attribute("member", members)
	require.NoError(w.t, w.ldap.Add(request))
	return dn
}

func (w *world) member(group string, add bool, dn string) {
	w.t.Helper()
	request := ldap.NewModifyRequest(group, nil)
	if add {
		request.Add("member", []string{dn})
	} else {
		request.Delete("member", []string{dn})
	}
	require.NoError(w.t, w.ldap.Modify(request))
}

// resources lists what the cloud has of one type.
func resources(t *testing.T, c cloudAddress, endpoint string) map[string]map[string]any {
	t.Helper()
	status, page := scim(t, c, "GET", c.url+"/"+endpoint+"?count=1000", nil)
	require.Equal(t, 200, status, page)
	out := map[string]map[string]any{}
	list, _ := page["Resources"].([]any)
	for _, item := range list {
		resource := item.(map[string]any)
		out[fmt.Sprint(resource["displayName"])] = resource
	}
	return out
}

// members names the members of a group in the cloud by login or display name.
func members(t *testing.T, c cloudAddress, group string) []string {
	t.Helper()
	names := map[any]string{}
	for _, u := range users(t, c, "") {
		names[u["id"]] = strings.TrimSuffix(fmt.Sprint(u["userName"]), "@brisling.example")
	}
	groups := resources(t, c, "Groups")
	for name, g := range groups {
		names[g["id"]] = name
	}
	require.Contains(t, groups, group)
	out := []string{}
	list, _ := groups[group]["members"].([]any)
	for _, m := range list {
		out = append(out, names[m.(map[string]any)["value"]])
	}
	slices.Sort(out)
	return out
}

const managerTarget = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"

func (w *world) manager(login string) any {
	extension, _ := w.user(login + "@brisling.example")[managerTarget].(map[string]any)
	manager, _ := extension["manager"].(map[string]any)
	return manager["value"]
}

func TestGroupsAndReferencesFollowTheDirectory(t *testing.T) {
	t.Parallel()
	w := newWorld(t, teamsLDIF)
	ada, bo, eli := w.person("Ada Brekke", nil), w.person("Bo Ravn", nil), w.person("Eli Aas", nil)
	outside := "cn=Gone Long," + leavers
	crew := w.group("Crew", ada, bo, outside)
	w.set(bo, "manager", ada)
	w.activate(withGroups())

	run := w.run(wire.NewRun{Purpose: purpose.Forecast})
	assert.Equal(t, 4, run.Counts.Create)
	changes, err := w.client.Changes(t.Context(), run.ID, map[string][]string{"kind": {"group"}})
	require.NoError(t, err)
	require.Len(t, changes.Items, 2, "a rehearsal tells the members of groups that are still to be made")
	assert.Len(t, changes.Items[1].Diffs[0].Added, 2)
	assert.Empty(t, users(t, w.address(), ""))

	w.inStep(6) // three people, a group, its members, a manager
	assert.Equal(t, []string{"ada.brekke", "bo.ravn"}, members(t, w.address(), "Crew"), "who is not in scope is left out")
	assert.Equal(t, w.user("ada.brekke@brisling.example")["id"], w.manager("bo.ravn"))
	w.inStep(0)

	w.member(crew, true, eli)
	w.inStep(1)
	assert.Equal(t, []string{"ada.brekke", "bo.ravn", "eli.aas"}, members(t, w.address(), "Crew"))
	watch := w.group("Watch", crew)
	w.inStep(2)
	assert.Equal(t, []string{"Crew"}, members(t, w.address(), "Watch"))
	w.member(crew, true, watch) // a cycle
	w.inStep(1)
	assert.Equal(t, []string{"Watch", "ada.brekke", "bo.ravn", "eli.aas"}, members(t, w.address(), "Crew"))
	w.set(bo, "manager", eli)
	w.inStep(1)
	assert.Equal(t, w.user("eli.aas@brisling.example")["id"], w.manager("bo.ravn"))
	id := resources(t, w.address(), "Groups")["Crew"]["id"]
	require.NoError(t, w.ldap.ModifyDN(ldap.NewModifyDNRequest(crew, "cn=Deck crew", true, "")))
	w.member(watch, true, "cn=Deck crew,"+teams)
	w.member(watch, false, crew)
	w.inStep(1)
	assert.Equal(t, id, resources(t, w.address(), "Groups")["Deck crew"]["id"], "a renamed group keeps its resource and its members")
	assert.Equal(t, []string{"Deck crew"}, members(t, w.address(), "Watch"))
	crew = "cn=Deck crew," + teams

	// What is done to the group in the cloud is put right.
	address := w.address()
	status, _ := scim(t, address, "PATCH", fmt.Sprint(address.url, "/Groups/", id), map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"},
		"Operations": []any{map[string]any{"op": "remove", "path": "members"}}})
	require.Equal(t, 200, status)
	w.inStep(1)
	assert.Equal(t, []string{"Watch", "ada.brekke", "bo.ravn", "eli.aas"}, members(t, address, "Deck crew"))

	// A member that the cloud has lost is made again and is a member again.
	status, _ = scim(t, address, "DELETE", fmt.Sprint(address.url, "/Users/", w.user("eli.aas@brisling.example")["id"]), nil)
	require.Equal(t, 204, status)
	w.run(wire.NewRun{Purpose: purpose.Full})
	w.inStep(0)
	assert.Equal(t, []string{"Watch", "ada.brekke", "bo.ravn", "eli.aas"}, members(t, address, "Deck crew"))
	assert.Equal(t, w.user("eli.aas@brisling.example")["id"], w.manager("bo.ravn"))

	// A person who leaves leaves the groups, and comes back into them.
	require.NoError(t, w.ldap.ModifyDN(ldap.NewModifyDNRequest(ada, "cn=Ada Brekke", true, leavers)))
	require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	assert.Equal(t, []string{"Watch", "bo.ravn", "eli.aas"}, members(t, address, "Deck crew"))
	require.NoError(t, w.ldap.ModifyDN(ldap.NewModifyDNRequest("cn=Ada Brekke,"+leavers, "cn=Ada Brekke", true, people)))
	require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	assert.Equal(t, []string{"Watch", "ada.brekke", "bo.ravn", "eli.aas"}, members(t, address, "Deck crew"))

	// A group that goes stays for its grace time, and comes back as it was.
	require.NoError(t, w.ldap.Del(ldap.NewDelRequest(watch, nil)))
	require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	assert.Contains(t, resources(t, address, "Groups"), "Watch")
	d := withGroups()
	d.Groups.Grace = "0s"
	w.activate(d)
	run = w.run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State)
	assert.Equal(t, 1, run.Counts.Delete)
	assert.NotContains(t, resources(t, address, "Groups"), "Watch")
	w.inStep(0)
	full := w.run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
}

func TestAnExistingGroupIsAdoptedAndRolesFollowMembership(t *testing.T) {
	t.Parallel()
	w := newWorld(t, teamsLDIF)
	address := w.address()
	status, made := scim(t, address, "POST", address.url+"/Groups", map[string]any{"displayName": "Crew"})
	require.Equal(t, 201, status)
	ada, bo := w.person("Ada Brekke", nil), w.person("Bo Ravn", nil)
	crew := w.group("Crew", ada)
	watch := w.group("Watch", crew)
	d := withGroups()
	d.Users.Rules = append(d.Users.Rules, settings.Rule{Target: "entitlements", Granted: []settings.Grant{{Group: watch, Value: "bridge-app"}, {Group: crew, Value: "crew-app"}}, Fallback: `"guest-app"`})
	w.activate(d)
	require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	assert.Equal(t, made["id"], resources(t, address, "Groups")["Crew"]["id"], "the group that was there is adopted")
	entitlements := func(login string) []string {
		var values []string
		list, _ := w.user(login + "@brisling.example")["entitlements"].([]any)
		for _, item := range list {
			values = append(values, fmt.Sprint(item.(map[string]any)["value"]))
		}
		slices.Sort(values)
		return values
	}
	assert.Equal(t, []string{"bridge-app", "crew-app"}, entitlements("ada.brekke"), "also through a group within the group")
	assert.Equal(t, []string{"guest-app"}, entitlements("bo.ravn"))

	// Somebody gives her one by hand: it stays when the membership ends.
	status, _ = scim(t, address, "PATCH", fmt.Sprint(address.url, "/Users/", w.user("ada.brekke@brisling.example")["id"]), map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"},
		"Operations": []any{map[string]any{"op": "add", "path": "entitlements", "value": []any{map[string]any{"value": "by-hand"}}}}})
	require.Equal(t, 200, status)
	w.member(crew, true, bo)
	w.member(crew, false, ada)
	require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	assert.Equal(t, []string{"by-hand", "guest-app"}, entitlements("ada.brekke"))
	assert.Contains(t, entitlements("bo.ravn"), "bridge-app")
	w.inStep(0)
}
