package rights

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
)

func TestRightsAreExactlyWhatTheFeaturesNeed(t *testing.T) {
	t.Parallel()
	d := settings.Directory{Name: "halvard", Dialect: entry.AD, Base: "DC=corp,DC=halvard,DC=example", Containers: settings.Containers{Include: []string{"OU=Fleet,DC=corp,DC=halvard,DC=example"}}}
	for _, right := range List(d, "S-1-5-21-1", Unknown) {
		assert.Equal(t, "reading", right.Feature, "without a feature nothing is written")
	}
	assert.Contains(t, Text(d, "", AccessLines), "It only reads this directory")
	assert.Contains(t, Text(d, "", AccessLines), "CN=Deleted Objects,DC=corp,DC=halvard,DC=example")
	d.Features = []entry.Feature{entry.FeatureResetPasswords}
	list := List(d, "S-1-5-21-1", Unknown)
	assert.Equal(t, "(OA;CIIO;CR;00299570-246d-11d0-a768-00aa006e0529;bf967aba-0de6-11d0-a285-00aa003049e2;S-1-5-21-1)", list[len(list)-2].Grant)
	assert.Equal(t, "(OA;CIIO;WP;bf967a0a-0de6-11d0-a285-00aa003049e2;bf967aba-0de6-11d0-a285-00aa003049e2;S-1-5-21-1)", list[len(list)-1].Grant)
	assert.Equal(t, "OU=Fleet,DC=corp,DC=halvard,DC=example", list[len(list)-1].Container)
	d.Features = entry.Features
	for _, right := range List(d, "S-1-5-21-1", Unknown) {
		assert.NotContains(t, right.Grant, ";;;;", "%s: every attribute and class has its id", right.Text)
		assert.NotRegexp(t, `;(WP|CR);;`, right.Grant, right.Text)
	}
}

func TestRightsOfTheStandardDialectAreAccessLines(t *testing.T) {
	t.Parallel()
	d := settings.Directory{Name: "brisling", Dialect: entry.Standard, Base: "dc=brisling,dc=example", Features: []entry.Feature{entry.FeatureRepair},
		Containers: settings.Containers{Include: []string{"ou=Quays,dc=brisling,dc=example"}}}
	assert.Equal(t, `access to dn.subtree="ou=Quays,dc=brisling,dc=example" attrs=mail,displayName by dn.exact="uid=svc,dc=brisling,dc=example" write by * break`, List(d, "uid=svc,dc=brisling,dc=example", LanguageOf("OpenLDAP"))[0].Grant)
	assert.Contains(t, Text(d, "", AccessLines), "DN-OF-THE-ACCOUNT")
	aci := Text(d, "uid=svc,dc=brisling,dc=example", LanguageOf("389 Project"))
	assert.Contains(t, aci, `aci: (targetattr="mail || displayName")(version 3.0; acl "kambrel write mail displayName"; allow (write) userdn="ldap:///uid=svc,dc=brisling,dc=example";)`)
	assert.NotContains(t, aci, "access to")
	words := Text(d, "", LanguageOf("Some Server"))
	assert.Contains(t, words, "write mail,displayName\n")
	assert.Contains(t, words, "probe the directory first")
	d.Dialect, d.Features = entry.DS389, []entry.Feature{entry.FeatureUnlock, entry.FeatureDigests}
	aci = Text(d, "uid=svc,dc=brisling,dc=example", Unknown)
	assert.Contains(t, aci, `(targetattr="accountUnlockTime || passwordRetryCount")(version 3.0; acl "kambrel write accountUnlockTime passwordRetryCount"; allow (write)`)
	assert.Contains(t, aci, `(targetattr="userPassword")(version 3.0; acl "kambrel read userPassword"; allow (read,search,compare)`, "to read is not to write")
}
