package directory

import (
	"errors"
	"fmt"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/lab/servers/serverstest"
)

// TestGroupsOfADomainController makes, renames, moves, fills and deletes a group on a real
// controller, each twice, and keeps its identity.
func TestGroupsOfADomainController(t *testing.T) {
	t.Parallel()
	server, err := serverstest.New(t).StartDomainController(t.Context())
	if errors.Is(err, servers.ErrNoDomainController) {
		t.Skip(err)
	}
	require.NoError(t, err)
	p := connectPeer(t, entry.AD, server)
	crew := p.ou(server.BaseDN, "Crew")
	first, second := p.ou(server.BaseDN, "Cloud Groups"), p.ou(server.BaseDN, "Harbour")
	c := connection(server)
	c.BindDN, c.Password = server.AdminDN, secret.Text(server.AdminPassword)
	session, err := Open(t.Context(), c)
	require.NoError(t, err)
	defer session.Close()
	place := GroupPlace{Dialect: entry.AD, Base: server.BaseDN, Container: first, Mark: "adminDisplayName", Class: "group", Member: "member", Attributes: []string{"adminDisplayName", "groupType", "sAMAccountName", "cn"}}
	write := func(c GroupChange) GroupResult {
		t.Helper()
		c.Group = "g1"
		var result GroupResult
		for range 2 { // what is done again changes nothing
			var err error
			result, err = session.WriteGroup(t.Context(), place, c)
			require.NoError(t, err)
		}
		return result
	}
	made := write(GroupChange{Make: true, DN: "CN=Regatta," + first, Values: entry.Attributes{"sAMAccountName": {"Regatta"}, "groupType": {"-2147483646"}, "adminDisplayName": {"g1"}}})
	require.Nil(t, made.Refusal)
	require.NotNil(t, made.Entry)
	id, sid := made.Entry.ID, made.SID
	assert.Regexp(t, `^S-1-5-21-`, sid)
	assert.Equal(t, "g1", made.Entry.Attributes.First("adminDisplayName"))

	// A global group becomes domain-local, by way of universal.
	place.Container = second
	moved := write(GroupChange{ID: id, DN: `CN=Harbour\, Regatta,` + second, Values: entry.Attributes{"groupType": {"-2147483644"}, "sAMAccountName": {"Harbour Regatta"}}, Drift: true})
	require.Nil(t, moved.Refusal)
	assert.Equal(t, sid, moved.SID, "it keeps its identity")
	assert.NotNil(t, moved.At)
	found, err := session.byID(entry.AD, server.BaseDN, id, "groupType", "sAMAccountName")
	require.NoError(t, err)
	assert.Equal(t, `CN=Harbour\, Regatta,`+second, found.DN)
	assert.Equal(t, []string{"-2147483644", "Harbour Regatta"}, []string{found.GetAttributeValue("groupType"), found.GetAttributeValue("sAMAccountName")})

	var members []string
	for i := range 20 {
		members = append(members, p.person(crew, fmt.Sprintf("Hand %02d", i)))
	}
	nobody := "CN=Nobody," + crew
	filled := write(GroupChange{ID: id, Add: append([]string{nobody}, members...)})
	require.Nil(t, filled.Refusal)
	require.Len(t, filled.Refused, 1, "the rest goes on")
	assert.Equal(t, nobody, filled.Refused[0].DN)
	write(GroupChange{ID: id, Remove: members[:19]})
	found, err = session.byID(entry.AD, server.BaseDN, id, "member")
	require.NoError(t, err)
	assert.Equal(t, members[19:], found.GetAttributeValues("member"))

	taken, err := session.WriteGroup(t.Context(), place, GroupChange{Make: true, Group: "g2", DN: "CN=Another," + second, Values: entry.Attributes{"sAMAccountName": {"Harbour Regatta"}, "groupType": {"-2147483640"}, "adminDisplayName": {"g2"}}})
	require.NoError(t, err)
	require.NotNil(t, taken.Refusal)
	assert.Equal(t, problem.CloudGroupNameTaken, taken.Refusal.Code)
	assert.Contains(t, taken.Refusal.Detail, `CN=Harbour\, Regatta`, "both sides are named")

	other := ldap.NewModifyRequest(found.DN, nil)
	other.Replace("adminDisplayName", []string{"somebody else's"})
	require.NoError(t, p.admin.Modify(other))
	kept := write(GroupChange{Delete: true, ID: id})
	assert.Equal(t, problem.ValueChanged, kept.Refusal.Code, "what does not bear the id is not deleted")
	write(GroupChange{ID: id, Values: entry.Attributes{"adminDisplayName": {"g1"}}})
	require.Nil(t, write(GroupChange{Delete: true, ID: id}).Refusal)
	_, err = session.byID(entry.AD, server.BaseDN, id, "cn")
	assert.Equal(t, problem.NotFound, problem.CodeOf(err))
}
