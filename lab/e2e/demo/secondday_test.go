package demo_test

import (
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/e2e/worldtest"
)

// secondDay is what an administrator decides after the first run: a near miss, a
// login that administers the cloud, a contact without an address; and groups.
func (d *running) secondDay() {
	t := d.t
	// Mira's address is the login of an account that the cloud has: held, not doubled.
	assert.Nil(t, worldtest.User(t, d.cloud(), "mt@halvard.example"))
	mira := worldtest.User(t, d.cloud(), "mira.tangen@halvard.example")
	out, status := d.kambrel("link", "mt@halvard.example", "mira.tangen@halvard.example", "--yes")
	require.Zero(t, status, out)
	d.open--
	assert.Equal(t, mira["id"], worldtest.User(t, d.cloud(), "mt@halvard.example")["id"], "linked, and her login corrected")

	// The harbour master's login administers the cloud: no rule takes it.
	boss := worldtest.User(t, d.cloud(), "harbourmaster@halvard.example")
	assert.Nil(t, boss["externalId"])
	d.modify("CN=Torleif Sund,OU=Southquay,OU=Terminals,"+d.base(), map[string]string{"userPrincipalName": "torleif.sund@halvard.example", "mail": "torleif.sund@halvard.example"})
	d.open--
	d.kambrel("sync")
	assert.NotEqual(t, boss["id"], worldtest.User(t, d.cloud(), "torleif.sund@halvard.example")["id"])
	assert.Nil(t, worldtest.User(t, d.cloud(), "harbourmaster@halvard.example")["externalId"])

	// A person without a display name is called by the common name.
	assert.Equal(t, "Bodil Hamre", worldtest.User(t, d.cloud(), "bodil.hamre@halvard.example")["displayName"])

	// A contact without an address is named; with one it is there.
	contacts := worldtest.Resources(t, d.cloud(), "Contacts")
	assert.Len(t, contacts, 13)
	assert.NotContains(t, contacts, "zz Pilot Station North", "hidden, and its name begins with the reserved prefix")
	out, status = d.kambrel("why", "CN=Pilot Station North,OU=Partners,"+d.base())
	require.Zero(t, status, out)
	assert.Contains(t, out, "(showInAdvancedViewOnly=TRUE)")
	assert.Contains(t, out, "<- decides")
	d.modify("CN=Harbour Master Duty Desk,OU=Partners,"+d.base(), map[string]string{"mail": "desk@partners.example"})
	d.open--
	d.sync(1)
	assert.Contains(t, worldtest.Resources(t, d.cloud(), "Contacts"), "Harbour Master Duty Desk")

	// Every group has just the linked members that its entry has.
	d.sameMembers()
	d.sync(0)
}

// sameMembers compares each group of the directory with the cloud, by LDAP and
// SCIM alone.
func (d *running) sameMembers() {
	t := d.t
	linked := map[string]string{} // name in the directory -> display name in the cloud
	for _, u := range worldtest.Users(t, d.cloud(), "externalId pr") {
		linked[strings.ToLower(u["userName"].(string))] = u["id"].(string)
	}
	groups := worldtest.Resources(t, d.cloud(), "Groups")
	search := func(base, filter string, attributes ...string) []*ldap.Entry {
		result, err := d.ldap.Search(&ldap.SearchRequest{BaseDN: base, Scope: ldap.ScopeWholeSubtree, Filter: filter, Attributes: attributes})
		require.NoError(t, err)
		return result.Entries
	}
	ids := map[string]string{}
	for _, e := range search(d.base(), "(objectClass=user)", "userPrincipalName") {
		if id, ok := linked[strings.ToLower(e.GetAttributeValue("userPrincipalName"))]; ok {
			ids[e.DN] = id
		}
	}
	teams := search("OU=Teams,"+d.base(), "(objectClass=group)", "displayName", "member")
	for _, e := range teams {
		ids[e.DN] = groups[e.GetAttributeValue("displayName")]["id"].(string)
	}
	require.Len(t, teams, 30)
	for _, e := range teams {
		want, have := []string{}, []string{}
		for _, member := range e.GetAttributeValues("member") {
			if id, ok := ids[member]; ok {
				want = append(want, id)
			}
		}
		list, _ := groups[e.GetAttributeValue("displayName")]["members"].([]any)
		for _, member := range list {
			have = append(have, member.(map[string]any)["value"].(string))
		}
		slices.Sort(want)
		slices.Sort(have)
		assert.Equal(t, want, have, e.DN)
	}
}
