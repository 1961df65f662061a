package demo_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/demo"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// cloudGroups tells of groups that were made in the cloud: they are in the directory with
// those who are there, and keep their identity whatever happens to them.
func (d *running) cloudGroups() {
	d.t.Helper()
	container := "OU=Cloud Groups," + d.base()
	find := func(name string) *ldap.Entry {
		d.t.Helper()
		result, err := d.ldap.Search(&ldap.SearchRequest{BaseDN: d.base(), Scope: ldap.ScopeWholeSubtree, Filter: "(&(objectClass=group)(cn=" + name + "))", Attributes: []string{"objectGUID", "objectSid", "member", "adminDisplayName", "groupType"}})
		require.NoError(d.t, err)
		require.Len(d.t, result.Entries, 1, name)
		return result.Entries[0]
	}
	members := func(name string) []string {
		d.t.Helper()
		names := []string{}
		for _, dn := range find(name).GetAttributeValues("member") {
			rdn, _, _ := strings.Cut(strings.TrimPrefix(dn, "CN="), ",")
			names = append(names, rdn)
		}
		slices.Sort(names)
		return names
	}
	identity := func(name string) [2]string {
		e := find(name)
		return [2]string{string(e.GetRawAttributeValue("objectGUID")), string(e.GetRawAttributeValue("objectSid"))}
	}
	assert.Equal(d.t, []string{"Ada Brekke", "Jon Sletta", "Otto Reksten"}, members(demo.Committee), "exactly those who are linked here")
	assert.Equal(d.t, []string{"Pia Holmen", demo.Committee}, members(demo.Board))
	assert.Equal(d.t, "-2147483640", find(demo.Board).GetAttributeValue("groupType"), "a universal security group")
	out, _ := d.kambrel("cloud-groups", "members", demo.Committee, "--directory", "halvard", "--left-out")
	for _, name := range []string{"Harbour Master", "Regatta Desk", "cloud-only"} {
		assert.Contains(d.t, out, name)
	}
	groups := worldtest.Resources(d.t, d.cloud(), "Groups")
	committee := fmt.Sprint(groups[demo.Committee]["id"])
	assert.Equal(d.t, committee, find(demo.Committee).GetAttributeValue("adminDisplayName"))
	was := identity(demo.Committee)

	patch := func(operation map[string]any) {
		d.t.Helper()
		worldtest.Patch(d.t, d.cloud(), "Groups/"+committee, operation)
	}
	rename := func(name string) { patch(map[string]any{"op": "replace", "path": "displayName", "value": name}) }
	rename("Harbour Regatta")
	d.sync(3) // in both directories; and OpenLDAP does not keep the board's member true
	d.sync(0)
	assert.Equal(d.t, was, identity("Harbour Regatta"), "access lists stay")
	rename(demo.Committee)
	d.sync(3)

	request := ldap.NewModifyRequest("CN="+demo.Committee+","+container, nil)
	request.Add("member", []string{"CN=Pia Holmen,OU=Finance,OU=Shore Office," + d.base()})
	require.NoError(d.t, d.ldap.Modify(request))
	d.sync(1)
	assert.NotContains(d.t, members(demo.Committee), "Pia Holmen")
	out, _ = d.kambrel("cloud-groups", "drift")
	assert.Contains(d.t, out, "-Pia Holmen")

	// A domain-local group cannot be a member of a universal one.
	patch(map[string]any{"op": "add", "path": "members", "value": []any{map[string]any{"value": groups["Quay Locks"]["id"]}}})
	d.open++
	d.sync(0)
	d.open--
	assert.NotContains(d.t, members(demo.Committee), "Quay Locks")
	out, _ = d.kambrel("problems", "list", "-o", "json")
	var problems []wire.Problem
	require.NoError(d.t, json.Unmarshal([]byte(out), &problems))
	assert.True(d.t, slices.ContainsFunc(problems, func(p wire.Problem) bool {
		return p.Code == "group-scope-refuses" && strings.Contains(p.Detail, "CN=Quay Locks") && strings.Contains(p.Remedy, "Change the scope")
	}), out)
	patch(map[string]any{"op": "remove", "path": fmt.Sprintf("members[value eq %q]", groups["Quay Locks"]["id"])})
	d.sync(0)
}
