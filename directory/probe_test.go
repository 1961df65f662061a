package directory

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/lab/servers/serverstest"
)

// of returns the verdict of a step.
func of(t *testing.T, verdicts []Verdict, step Step, subject string) Verdict {
	t.Helper()
	for _, v := range verdicts {
		if v.Step == step && v.Subject == subject {
			return v
		}
	}
	require.Failf(t, "no verdict", "%s %s among %+v", step, subject, verdicts)
	return Verdict{}
}

// bad asserts that a step fails with a cause and an advice that name the thing.
func bad(t *testing.T, verdicts []Verdict, step Step, subject, detail, advice string) {
	t.Helper()
	v := of(t, verdicts, step, subject)
	assert.Equal(t, Bad, v.Outcome, "%+v", v)
	assert.Contains(t, v.Detail, detail)
	assert.Contains(t, v.Advice, advice)
}

const brislingLDIF = `dn: dc=brisling,dc=example
objectClass: organization
objectClass: dcObject
o: Brisling Cargo
dc: brisling

dn: ou=Crew,dc=brisling,dc=example
objectClass: organizationalUnit

dn: uid=liv,ou=Crew,dc=brisling,dc=example
objectClass: inetOrgPerson
cn: Liv Strand
sn: Strand
mail: liv@brisling.example
userPassword: Otter-Bay-55

dn: cn=lockout,dc=brisling,dc=example
objectClass: device
objectClass: pwdPolicy
pwdAttribute: userPassword
pwdLockout: TRUE

`

func startBrisling(t *testing.T, name string, options servers.OpenLDAPOptions) *servers.LDAPServer {
	t.Helper()
	options.BaseDN, options.LDIF = "dc=brisling,dc=example", filepath.Join(t.TempDir(), "base.ldif")
	require.NoError(t, os.WriteFile(options.LDIF, []byte(brislingLDIF+servers.ReaderLDIF(options.BaseDN)), 0o600))
	server, err := serverstest.New(t).StartOpenLDAP(t.Context(), name, options)
	require.NoError(t, err)
	return server
}

func TestProbeNamesEveryFailureOfTheConnection(t *testing.T) {
	t.Parallel()
	server := startBrisling(t, "openldap", servers.OpenLDAPOptions{Plain: true})
	probe := func(change func(*Connection)) []Verdict {
		c := connection(server)
		change(&c)
		return Probe(t.Context(), c, ProbeRequest{Dialect: entry.Standard, Base: server.BaseDN}, time.Now)
	}
	other := filepath.Join(t.TempDir(), "other.pem")
	text, err := os.ReadFile(startBrisling(t, "other", servers.OpenLDAPOptions{}).CAFile)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(other, text, 0o600))

	bad(t, probe(func(c *Connection) { c.URL = "ldaps://nowhere.brisling.example" }), StepName, "", "nowhere.brisling.example is not known", "host name")
	bad(t, probe(func(c *Connection) { c.URL = "ldaps://127.0.0.1:1" }), StepConnect, "", "nothing listens", "port")
	bad(t, probe(func(c *Connection) { c.URL = strings.Replace(server.PlainURL, "ldap:", "ldaps:", 1) }), StepTLS, "", "does not speak TLS", "startTLS")
	bad(t, probe(func(c *Connection) { c.CAFile = other }), StepTLS, "", "authority", "'ca'")
	bad(t, probe(func(c *Connection) { c.CAFile = other + "x" }), StepConfiguration, "", "other.pemx", "CA bundle")
	bad(t, probe(func(c *Connection) { c.URL = server.PlainURL }), StepConfiguration, "", "unprotected", "configuration")
	bad(t, probe(func(c *Connection) { c.Password = "wrong" }), StepBind, "", "wrong password", "'password'")

	needs := Probe(t.Context(), connection(server), ProbeRequest{Dialect: entry.Standard, Base: server.BaseDN, Needs: []string{"cn", "carLicense", "roomNumber"},
		Expected: []string{"carLicense"}, Containers: []string{server.BaseDN, "ou=Nowhere," + server.BaseDN, server.ReaderDN}}, time.Now)
	bad(t, needs, StepAttributes, "carLicense", "entries had carLicense", "right to read")
	assert.Contains(t, of(t, needs, StepAttributes, "").Detail, "1 attributes that the settings need can be read; nobody has roomNumber")
	bad(t, needs, StepRead, "ou=Nowhere,"+server.BaseDN, "does not exist", "container")
	assert.Equal(t, Doubtful, of(t, needs, StepRead, server.ReaderDN).Outcome, "nothing can be seen in it")

	plainly := probe(func(c *Connection) { c.URL, c.AllowPlain = server.PlainURL, true })
	assert.Equal(t, Doubtful, of(t, plainly, StepTLS, "").Outcome, "plain LDAP is flagged even where it is allowed")
	assert.Equal(t, Good, of(t, plainly, StepBase, "").Outcome)
	started := probe(func(c *Connection) { c.URL, c.StartTLS = server.PlainURL, true })
	assert.Equal(t, Good, of(t, started, StepTLS, "").Outcome)
	assert.Contains(t, of(t, started, StepTLS, "").Detail, "valid until")

	c := connection(server)
	missing := Probe(t.Context(), c, ProbeRequest{Dialect: entry.Standard, Base: "dc=herring,dc=example"}, time.Now)
	bad(t, missing, StepBase, "", "dc=brisling,dc=example", "base")
	unset := Probe(t.Context(), c, ProbeRequest{Dialect: entry.Standard}, time.Now)
	assert.Contains(t, of(t, unset, StepBase, "").Detail, "dc=brisling,dc=example")

	admin, err := server.Dial()
	require.NoError(t, err)
	defer admin.Close()
	lock := ldap.NewModifyRequest(server.ReaderDN, []ldap.Control{ldap.NewControlString("1.3.6.1.4.1.4203.666.5.12", true, "")}) // relax
	lock.Replace("pwdPolicySubentry", []string{"cn=lockout,dc=brisling,dc=example"})
	lock.Replace("pwdAccountLockedTime", []string{"000001010000Z"})
	require.NoError(t, admin.Modify(lock))
	bad(t, probe(func(*Connection) {}), StepBind, "", "locked", "Unlock")
}

func TestProbeNamesFaultsOfTheCertificate(t *testing.T) {
	t.Parallel()
	for fault, want := range map[servers.CertificateFault][2]string{
		servers.ExpiredCertificate:   {"expired", "Renew"},
		servers.OtherHostCertificate: {"another host name", "names that the certificate holds"},
	} {
		server := startBrisling(t, "openldap", servers.OpenLDAPOptions{Certificate: fault})
		bad(t, Probe(t.Context(), connection(server), ProbeRequest{Dialect: entry.Standard, Base: server.BaseDN}, time.Now), StepTLS, "", want[0], want[1])
	}
}

func TestProbeTriesRightsWithoutChangingAnything(t *testing.T) {
	t.Parallel()
	request := ProbeRequest{Dialect: entry.Standard, Base: "dc=brisling,dc=example", Features: entry.Features, Attributes: map[entry.Kind][]string{entry.User: {"mail", "displayName"}}}
	server := startBrisling(t, "openldap", servers.OpenLDAPOptions{})
	verdicts := Probe(t.Context(), connection(server), request, time.Now)
	bad(t, verdicts, StepRight, "repair, user", "write mail, displayName", "text of rights")
	bad(t, verdicts, StepRight, "reset-passwords, user", "write userPassword", "text of rights")
	assert.Equal(t, Good, of(t, verdicts, StepChanges, "").Outcome)
	assert.Equal(t, Skipped, of(t, verdicts, StepClock, "").Outcome)
	assert.Equal(t, Skipped, of(t, verdicts, StepRight, "cloud-groups").Outcome, "no container is set")
	request.Groups = &GroupPlace{Dialect: entry.Standard, Base: request.Base, Container: "ou=Crew,dc=brisling,dc=example", Mark: "businessCategory", Class: "groupOfNames", Member: "member"}
	assert.Equal(t, Doubtful, of(t, Probe(t.Context(), connection(server), request, time.Now), StepRight, "cloud-groups").Outcome)

	allowed := startBrisling(t, "openldap", servers.OpenLDAPOptions{Access: `access to dn.subtree="ou=Crew,dc=brisling,dc=example" attrs=mail,displayName,userPassword by dn.exact="uid=svc-kambrel,ou=Service Accounts,dc=brisling,dc=example" write by anonymous auth`})
	verdicts = Probe(t.Context(), connection(allowed), request, time.Now)
	assert.Equal(t, Good, of(t, verdicts, StepRight, "repair, user").Outcome, "%+v", verdicts)
	assert.Equal(t, Good, of(t, verdicts, StepRight, "reset-passwords, user").Outcome)
	admin, err := allowed.Dial()
	require.NoError(t, err)
	defer admin.Close()
	found, err := admin.Search(search("uid=liv,ou=Crew,dc=brisling,dc=example", "(objectClass=*)", []string{"mail", "userPassword"}))
	require.NoError(t, err)
	assert.Equal(t, []string{"liv@brisling.example"}, found.Entries[0].GetAttributeValues("mail"))
	assert.Equal(t, "Otter-Bay-55", found.Entries[0].GetAttributeValue("userPassword"))
}

func TestProbeOfADomainController(t *testing.T) {
	t.Parallel()
	server, err := serverstest.New(t).StartDomainController(t.Context())
	if errors.Is(err, servers.ErrNoDomainController) {
		t.Skip(err)
	}
	require.NoError(t, err)
	p := connectPeer(t, entry.AD, server)
	crew := p.ou(server.BaseDN, "Crew")
	p.person(crew, "Ada")
	request := ProbeRequest{Dialect: entry.AD, Base: server.BaseDN, Features: entry.Features, Containers: []string{crew}, Attributes: map[entry.Kind][]string{entry.User: {"mail", "userPrincipalName"}, entry.Group: {"mail"}},
		Groups: &GroupPlace{Dialect: entry.AD, Base: server.BaseDN, Container: crew, Mark: "adminDisplayName", Class: "group", Member: "member"}}

	verdicts := Probe(t.Context(), connection(server), request, time.Now)
	for _, step := range []Step{StepName, StepConnect, StepTLS, StepBind, StepBase, StepChanges, StepDeleted, StepClock} {
		assert.Equal(t, Good, of(t, verdicts, step, "").Outcome, "%+v", of(t, verdicts, step, ""))
	}
	bad(t, verdicts, StepRight, "repair, user", "write mail, userPrincipalName", "text of rights")
	bad(t, verdicts, StepRight, "reset-passwords, user", "Reset Password", "text of rights")
	bad(t, verdicts, StepRight, "unlock, user", "lockoutTime", "text of rights")
	bad(t, verdicts, StepRight, "cloud-groups", "make groups in it", "text of rights")

	asAdmin := connection(server)
	asAdmin.BindDN, asAdmin.Password = server.AdminDN, secret.Text(server.AdminPassword)
	for _, feature := range entry.Features {
		subject := string(feature) + ", user"
		if feature == entry.FeatureCloudGroups {
			subject = string(feature)
		}
		assert.Equal(t, Good, of(t, Probe(t.Context(), asAdmin, request, time.Now), StepRight, subject).Outcome, feature)
	}
	request.Groups.Mark = "madeUpAttribute"
	bad(t, Probe(t.Context(), asAdmin, request, time.Now), StepRight, "cloud-groups", "no attribute madeUpAttribute", "Name another attribute")
	request.Groups.Mark, request.Groups.Container = "adminDisplayName", "OU=Nowhere,"+server.BaseDN
	bad(t, Probe(t.Context(), asAdmin, request, time.Now), StepRight, "cloud-groups", "does not exist", "Make the container")
	off := Probe(t.Context(), connection(server), request, func() time.Time { return time.Now().Add(time.Hour) })
	bad(t, off, StepClock, "", "1h0m", "Set the clock")

	// An everyday account may not look at deleted objects.
	everyday := ldap.NewAddRequest("CN=everyday,"+crew, nil)
	everyday.Attribute("objectClass", []string{"user"})
	everyday.Attribute("sAMAccountName", []string{"everyday"})
	everyday.Attribute("userPrincipalName", []string{"everyday@corp.halvard.example"})
	everyday.Attribute("userAccountControl", []string{"512"})
	everyday.Attribute("unicodePwd", []string{quoted("Tide-And-Rope-8")})
	require.NoError(t, p.admin.Add(everyday))
	c := connection(server)
	c.BindDN, c.Password = "everyday@corp.halvard.example", "Tide-And-Rope-8"
	bad(t, Probe(t.Context(), c, request, time.Now), StepDeleted, "", "cannot be read", "List Contents")
	c.Password = "wrong"
	bad(t, Probe(t.Context(), c, request, time.Now), StepBind, "", "wrong password", "'password'")
	disable := ldap.NewModifyRequest("CN=everyday,"+crew, nil)
	disable.Replace("userAccountControl", []string{"514"})
	require.NoError(t, p.admin.Modify(disable))
	c.Password = "Tide-And-Rope-8"
	bad(t, Probe(t.Context(), c, request, time.Now), StepBind, "", "disabled", "Enable")
}

func TestApplyWritesOnceAndOnlyWhatItMeant(t *testing.T) {
	t.Parallel()
	server := startBrisling(t, "openldap", servers.OpenLDAPOptions{})
	p := connectPeer(t, entry.Standard, server)
	c := connection(server)
	c.BindDN, c.Password = server.AdminDN, secret.Text(server.AdminPassword)
	writer, err := Open(t.Context(), c)
	require.NoError(t, err)
	defer writer.Close()
	first := p.changes()
	require.NotEmpty(t, first.entries)
	id := first.entries["uid=liv"].ID
	repair := Repair{ID: id, Attribute: "mail", Before: "liv@brisling.example", After: "liv.strand@brisling.example"}
	apply := func(s *Session, r Repair) error { return s.Apply(t.Context(), entry.Standard, server.BaseDN, r) }
	require.NoError(t, apply(writer, repair))
	require.NoError(t, apply(writer, repair), "done again it changes nothing")
	mail := func() []string {
		found, err := p.admin.Search(search(server.BaseDN, "(uid=liv)", []string{"mail"}))
		require.NoError(t, err)
		return found.Entries[0].GetAttributeValues("mail")
	}
	assert.Equal(t, []string{"liv.strand@brisling.example"}, mail())
	err = apply(writer, Repair{ID: id, Attribute: "mail", Before: "other@brisling.example", After: "x@brisling.example"})
	assert.ErrorContains(t, err, "liv.strand@brisling.example")
	err = apply(p.session, Repair{ID: id, Attribute: "mail", Before: "liv.strand@brisling.example", After: "x@brisling.example"})
	assert.ErrorContains(t, err, "right is missing")
	require.NoError(t, apply(writer, Repair{ID: id, Attribute: "mail", Before: "liv.strand@brisling.example"}))
	assert.Empty(t, mail())
	require.NoError(t, apply(writer, Repair{ID: id, Attribute: "mail", After: "liv@brisling.example"}))
	assert.Equal(t, []string{"liv@brisling.example"}, mail())
}

func FuzzControlAccess(f *testing.F) {
	f.Add(make([]byte, 64))
	f.Fuzz(func(t *testing.T, descriptor []byte) {
		_, _ = controlAccess(descriptor, [][]byte{{1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0}}, extendedRights[entry.FeatureResetPasswords].octets)
	})
}
