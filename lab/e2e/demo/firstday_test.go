package demo_test

import (
	"encoding/json"
	"os/exec"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/protocol/wire"
)

// kambrel runs a command in the demo's checkout.
func (d *running) kambrel(args ...string) (string, int) {
	d.t.Helper()
	command := exec.Command(worldtest.Plainly.Kambrel, args...)
	command.Dir = d.work
	out, err := command.CombinedOutput()
	if command.ProcessState == nil {
		require.NoError(d.t, err)
	}
	return string(out), command.ProcessState.ExitCode()
}

// firstDay is the administrator's first day on the scenario: late logins found
// and repaired, an exclusion by mistake seen beforehand, a directory taken away
// and brought back.
func (d *running) firstDay() {
	t := d.t
	findings := func() map[string]int {
		t.Helper()
		out, status := d.kambrel("survey", "run", "-o", "json")
		require.Contains(t, []int{0, 2}, status, out)
		var s wire.Survey
		require.NoError(t, json.Unmarshal([]byte(out), &s), out)
		return worldtest.FindingsByCode(s)
	}
	suffixes := func(suffix string) int {
		t.Helper()
		result, err := d.ldap.Search(&ldap.SearchRequest{BaseDN: "OU=Southquay,OU=Terminals," + d.base(), Scope: ldap.ScopeWholeSubtree, Filter: "(userPrincipalName=*" + suffix + ")", Attributes: []string{"cn"}})
		require.NoError(t, err)
		return len(result.Entries)
	}
	stories := map[string]int{"suffix-not-verified": 12, "address-twice": 2, "address-missing": 2, "display-name-blank": 1, "collides-with-resource": 2}
	assert.Equal(t, stories, findings())
	out, status := d.kambrel("survey", "repair", "--kind", "suffix-not-verified", "--yes")
	require.Zero(t, status, out)
	assert.Zero(t, suffixes("@corp.halvard.example"))
	assert.Zero(t, findings()["suffix-not-verified"], "gone from the second survey")
	out, status = d.kambrel("survey", "undo", "1", "--yes")
	require.Zero(t, status, out)
	assert.Equal(t, 12, suffixes("@corp.halvard.example"), "undo brings the old logins back")
	out, status = d.kambrel("survey", "undo", "2", "--yes")
	require.Zero(t, status, out)
	d.open = 3
	d.sync(51) // twelve people, and the groups and people that name them

	active := func() int { return len(worldtest.Users(t, d.cloud(), "active eq true and externalId pr")) }
	before := active()
	out, status = d.kambrel("scope", "exclude", "OU=Terminals,"+d.base())
	require.Zero(t, status, out)
	out, status = d.kambrel("impact", "-o", "json")
	require.Zero(t, status, out)
	var impact wire.Run
	require.NoError(t, json.Unmarshal([]byte(out), &impact))
	assert.Equal(t, 71, impact.Counts.Held, "the guard would hold them all")
	assert.Equal(t, 5, impact.Counts.Changes, "Otto Reksten goes on by his other entry, and leaves three groups and one that the cloud owns")
	assert.Equal(t, before, active())
	d.sync(0)
	assert.Equal(t, before, active(), "an edit that is not activated does nothing, and the schedule goes on")
	out, status = d.kambrel("settings", "discard")
	require.Zero(t, status, out)

	// Pilot Station North is kept out by a named condition.
	why, err := d.client.Why(t.Context(), "Pilot Station North")
	require.NoError(t, err)
	assert.Equal(t, "filtered", string(why.Verdict))

	out, status = d.kambrel("directory", "remove", "brisling")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "Its 68 links are put aside")
	out, status = d.kambrel("directory", "remove", "brisling", "--confirm", "brislin")
	assert.Equal(t, 1, status, out)
	document, err := d.client.Settings(t.Context())
	require.NoError(t, err)
	document.Document.Directories = document.Document.Directories[:1]
	text, err := document.Document.YAML()
	require.NoError(t, err)
	_, err = d.client.Activate(t.Context(), wire.ActivateSettings{YAML: string(text)})
	require.ErrorContains(t, err, "directory brisling has 68 links", "a directory with links is not dropped by leaving it out")
	out, status = d.kambrel("directory", "remove", "brisling", "--confirm", "brisling")
	require.Zero(t, status, out)
	d.sync(0)
	assert.Equal(t, before, active(), "nobody is suspended")
	out, status = d.kambrel("directory", "restore", "1")
	require.Zero(t, status, out)
	assert.Contains(t, out, "68 links")
	d.sync(0)
	assert.Equal(t, before, active())
}

// filters are what ldapsearch accepts: all forms of RFC 4515, extensible
// matches and escapes among them.
var filters = []string{
	`(cn=*)`, `(cn=Ada*)`, `(cn=*a)`, `(cn=*an*)`, `(cn=A*a*e*)`, `(CN=ADA BREKKE)`, `(cn=ada  brekke)`, `(cn= Ada Brekke )`, `(!(cn=A*))`, `(!(mail=*))`,
	`(&(sn=*)(givenName=*))`, `(|(sn=Strand)(sn=Lunde))`, `(&(|(title=Mate)(title=Driver))(!(sn=S*)))`, `(&(objectClass=person)(title=*er))`, `(|(&(cn=A*)(sn=B*))(&(cn=B*)(sn=A*)))`,
	`(objectClass=person)`, `(objectClass=organizationalPerson)`, `(objectClass=top)`, `(objectclass=PERSON)`, `(objectClass=*)`, `(!(objectClass=person))`, `(objectClass=device)`,
	`(mail=*@halvard.example)`, `(mail=*@brisling.example)`, `(mail=ada.brekke@halvard.example)`, `(mail=ADA.BREKKE@HALVARD.EXAMPLE)`, `(mail=*.*@*)`,
	`(title=Mate)`, `(title=mate)`, `(title=*Officer)`, `(title=Chief*)`, `(title=*e*e*)`, `(title=\4date)`, `(title=M\61te)`, `(title=Mate\2a)`, `(title=\28none\29)`, `(title=*\2a*)`, `(cn=\41da*)`,
	`(telephoneNumber=+47 55 01*)`, `(telephoneNumber=*)`, `(telephoneNumber=*10*)`, `(sn>=S)`, `(sn<=B)`, `(&(sn>=B)(sn<=D))`, `(givenName>=Y)`, `(title>=T)`,
	`(cn:caseExactMatch:=Ada Brekke)`, `(cn:=Ada Brekke)`, `(cn:=ada brekke)`, `(title:caseIgnoreMatch:=MATE)`, `(title:2.5.13.2:=mate)`,
	`(description=*)`, `(!(description=*))`, `(&)`, `(|)`, `(&(cn=*)(!(|(title=Mate)(title=Cook))))`, `(!(!(cn=A*)))`, `(|(!(title=*))(title=Cook))`,
	`(l=*)`, `(member=*)`, `(!(member=*))`, `(displayName=*)`, `(!(displayName=*))`, `(employeeNumber=*)`,
}

// filtersOf are what only one of the directories knows.
var filtersOf = map[entry.Dialect][]string{
	entry.AD: {
		`(userAccountControl:1.2.840.113556.1.4.803:=2)`, `(userAccountControl:1.2.840.113556.1.4.804:=514)`, `(!(userAccountControl:1.2.840.113556.1.4.803:=2))`, `(userAccountControl=512)`, `(userAccountControl>=514)`,
		`(userPrincipalName=*@corp.halvard.example)`, `(sAMAccountName=svc-*)`, `(groupType:1.2.840.113556.1.4.803:=2147483648)`, `(memberOf=CN=Pilot,OU=Teams,DC=corp,DC=halvard,DC=example)`,
		`(memberOf:1.2.840.113556.1.4.1941:=CN=Pilot,OU=Teams,DC=corp,DC=halvard,DC=example)`, `(memberOf=cn=pilot,ou=teams,dc=corp,dc=halvard,dc=example)`, `(memberOf=*)`, `(otherMailbox=bridge@halvard.example)`,
		`(showInAdvancedViewOnly=TRUE)`, `(objectClass=contact)`, `(objectClass=group)`, `(objectCategory=person)`, `(objectCategory=group)`, `(isCriticalSystemObject=TRUE)`, `(distinguishedName=CN=Ada Brekke,OU=Deck,OU=Fleet,DC=corp,DC=halvard,DC=example)`,
	},
	entry.Standard: {
		`(!(sn>=S))`, `(|(sn>=S)(title=Driver))`, `(createTimestamp>=20200101000000Z)`, `(!(createTimestamp>=20200101000000Z))`, `(entryDN=cn=Quays,ou=Teams,dc=brisling,dc=example)`,
		`(ou:dn:=Quays)`, `(ou:dn:=quays)`, `(&(objectClass=person)(!(ou:dn:=Office)))`, `(objectClass=inetOrgPerson)`, `(objectClass=groupOfNames)`, `(employeeNumber>=7050)`, `(employeeNumber<=7003)`, `(uid=a*)`,
		`(member=cn=Quays,ou=Teams,dc=brisling,dc=example)`, `(member=CN=quays, OU=teams,dc=brisling,dc=example)`, `(telephoneNumber=+4755020001)`, `(telephoneNumber=+47-55-02-00-01)`, `(departmentNumber=Trucking)`,
	},
}

// sameFilters counts what each filter keeps in Kambrel and in the directory.
func (d *running) sameFilters() {
	t := d.t
	tried := 0
	for i, name := range []string{"halvard", "brisling"} {
		endpoint := d.endpoints.Directories[i]
		conn, err := (&servers.LDAPServer{URL: endpoint.URL, CAFile: endpoint.CA, AdminDN: endpoint.BindDN, AdminPassword: endpoint.Password}).Dial()
		require.NoError(t, err)
		defer conn.Close()
		dialect := entry.Dialect(endpoint.Dialect)
		kinds := `(|(objectClass=group)(objectClass=contact)(&(objectClass=user)(!(objectClass=computer))))`
		if dialect == entry.Standard {
			kinds = `(|(objectClass=person)(objectClass=groupOfNames))`
		}
		all := append(append([]string{}, filters...), filtersOf[dialect]...)
		with := func(filter string) settings.Document {
			document := settings.Default(settings.Directory{Name: name, Dialect: dialect, Base: endpoint.BaseDN, Containers: settings.Containers{Include: []string{endpoint.BaseDN}}})
			document.Users.Filter, document.Groups.Filter, document.Contacts.Filter = filter, filter, filter
			return document
		}
		// What the filters ask about is read first, as the page says.
		everything := with("(&" + strings.Join(all, "") + ")")
		current, err := d.client.Draft(t.Context())
		require.NoError(t, err)
		counts, err := d.client.PreviewScope(t.Context(), wire.ScopePreview{Document: &everything})
		require.NoError(t, err)
		assert.NotEmpty(t, counts.Missing, "attributes that were not read are told")
		_, err = d.client.SaveDraft(t.Context(), wire.SaveDraft{Version: current.Version, Document: &everything})
		require.NoError(t, err)
		run, err := d.client.ReadDirectories(t.Context())
		require.NoError(t, err)
		ended, err := d.client.Wait(t.Context(), run.ID, nil)
		require.NoError(t, err)
		require.Equal(t, progress.InStep, ended.State, "%+v", ended.Failure)
		for _, filter := range all {
			document := with(filter)
			counts, err := d.client.PreviewScope(t.Context(), wire.ScopePreview{Document: &document})
			require.NoError(t, err, filter)
			assert.Empty(t, counts.Missing, filter)
			kept := 0
			for _, kind := range counts.Kinds {
				kept += kind.In
			}
			result, err := conn.Search(&ldap.SearchRequest{BaseDN: endpoint.BaseDN, Scope: ldap.ScopeWholeSubtree, Filter: "(&" + kinds + filter + ")", Attributes: []string{"1.1"}})
			if err != nil {
				t.Errorf("%s: the directory refuses %s: %v", name, filter, err)
				continue
			}
			own := slices.DeleteFunc(result.Entries, func(e *ldap.Entry) bool { // those of the cloud never take part
				return strings.HasSuffix(strings.ToLower(e.DN), ",ou=cloud groups,"+strings.ToLower(endpoint.BaseDN))
			})
			assert.Equal(t, len(own), kept, "%s: %s", name, filter)
			tried++
		}
	}
	assert.Greater(t, tried, 120)
	require.NoError(t, d.client.DiscardDraft(t.Context()))
	d.sync(0)
}
