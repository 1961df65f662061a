package directory

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/lab/servers/serverstest"
)

// peer is a real directory of one dialect.
type peer struct {
	t       *testing.T
	dialect entry.Dialect
	server  *servers.LDAPServer
	admin   *ldap.Conn
	session *Session
	cookie  []byte
}

func connection(s *servers.LDAPServer) Connection {
	return Connection{URL: s.URL, CAFile: s.CAFile, BindDN: s.ReaderDN, Password: secret.Text(s.ReaderPassword)}
}

func startAD(t *testing.T) *peer {
	server, err := serverstest.New(t).StartDomainController(t.Context())
	if errors.Is(err, servers.ErrNoDomainController) {
		t.Skip(err)
	}
	require.NoError(t, err)
	return connectPeer(t, entry.AD, server)
}

// startDS389 is a server whose plug-in for content synchronization is on; TestChangesAreReadByTheirTimes
// has one as it comes.
func startDS389(t *testing.T) *peer { return startDS389With(t, servers.DS389Options{Sync: true}) }

func startDS389With(t *testing.T, options servers.DS389Options) *peer {
	t.Helper()
	const base = "dc=brisling,dc=example"
	ldif := filepath.Join(t.TempDir(), "base.ldif")
	require.NoError(t, os.WriteFile(ldif, []byte("dn: "+base+"\nobjectClass: organization\nobjectClass: dcObject\no: Brisling Cargo\ndc: brisling\n"+
		`aci: (targetattr!="userPassword")(version 3.0; acl "reads"; allow (read,search,compare) userdn="ldap:///uid=svc-kambrel,ou=Service Accounts,dc=brisling,dc=example";)`+"\n\n"+servers.ReaderLDIF(base)), 0o600))
	options.BaseDN, options.LDIF = base, ldif
	server, err := serverstest.New(t).StartDS389(t.Context(), "ds389", options)
	require.NoError(t, err)
	return connectPeer(t, entry.DS389, server)
}

func startStandard(t *testing.T) *peer { return startStandardWith(t, servers.OpenLDAPOptions{}) }

func startStandardWith(t *testing.T, options servers.OpenLDAPOptions) *peer {
	ldif := filepath.Join(t.TempDir(), "base.ldif")
	require.NoError(t, os.WriteFile(ldif, []byte(`dn: dc=brisling,dc=example
objectClass: organization
objectClass: dcObject
o: Brisling Cargo
dc: brisling

`+servers.ReaderLDIF("dc=brisling,dc=example")), 0o600))
	return connectPeer(t, entry.Standard, startOpenLDAP(t, ldif, options))
}

func startOpenLDAP(t *testing.T, ldif string, options servers.OpenLDAPOptions) *servers.LDAPServer {
	t.Helper()
	options.BaseDN, options.LDIF = "dc=brisling,dc=example", ldif
	server, err := serverstest.New(t).StartOpenLDAP(t.Context(), "openldap", options)
	require.NoError(t, err)
	return server
}

func connectPeer(t *testing.T, dialect entry.Dialect, server *servers.LDAPServer) *peer {
	t.Helper()
	admin, err := server.Dial()
	require.NoError(t, err)
	session, err := Open(t.Context(), connection(server))
	require.NoError(t, err)
	t.Cleanup(func() { session.Close(); _ = admin.Close() })
	return &peer{t: t, dialect: dialect, server: server, admin: admin, session: session}
}

func (p *peer) ou(parent, name string) string {
	p.t.Helper()
	dn := "OU=" + name + "," + parent
	add := ldap.NewAddRequest(dn, nil)
	add.Attribute("objectClass", []string{"organizationalUnit"})
	require.NoError(p.t, p.admin.Add(add))
	return dn
}

func (p *peer) person(parent, name string) string {
	p.t.Helper()
	dn := "CN=" + name + "," + parent
	add := ldap.NewAddRequest(dn, nil)
	if p.dialect == entry.AD {
		add.Attribute("objectClass", []string{"user"})
		add.Attribute("sAMAccountName", []string{strings.ReplaceAll(strings.ToLower(name), " ", ".")})
	} else {
		add.Attribute("objectClass", []string{"inetOrgPerson"})
		add.Attribute("sn", []string{name})
	}
	add.Attribute("title", []string{"Mate"})
	require.NoError(p.t, p.admin.Add(add))
	return dn
}

func (p *peer) group(parent, name string, members []string) string {
	p.t.Helper()
	dn := "CN=" + name + "," + parent
	add := ldap.NewAddRequest(dn, nil)
	class := "groupOfNames"
	if p.dialect == entry.AD {
		class = "group"
		add.Attribute("sAMAccountName", []string{name})
	}
	add.Attribute("objectClass", []string{class})
	add.Attribute("member", members)
	require.NoError(p.t, p.admin.Add(add))
	return dn
}

// found is what a read gave, by the first relative name in lower case.
type found struct {
	entries  map[string]*entry.Entry
	gone     []entry.ID
	present  int
	restart  bool
	complete bool
}

func (p *peer) read(cookie []byte) found {
	p.t.Helper()
	f := found{entries: map[string]*entry.Entry{}}
	result, err := p.session.Read(p.t.Context(), Request{Dialect: p.dialect, Base: p.server.BaseDN, Attributes: []string{"title", "cn", "description"}, Cookie: cookie}, func(i Item) error {
		switch {
		case i.Entry != nil:
			rdn, _, _ := strings.Cut(i.Entry.DN, ",")
			f.entries[strings.ToLower(rdn)] = i.Entry
		case i.Gone != nil:
			f.gone = append(f.gone, *i.Gone)
		case i.Restart:
			f.restart, f.entries = true, map[string]*entry.Entry{}
		default:
			f.present += len(i.Present)
		}
		return nil
	})
	require.NoError(p.t, err)
	require.NotEmpty(p.t, result.Cookie)
	p.cookie, f.complete = result.Cookie, result.Complete
	return f
}

func (p *peer) changes() found { p.t.Helper(); return p.read(p.cookie) }

func (p *peer) modify(dn string, edit func(*ldap.ModifyRequest)) {
	p.t.Helper()
	request := ldap.NewModifyRequest(dn, nil)
	edit(request)
	require.NoError(p.t, p.admin.Modify(request))
}

func (p *peer) move(dn, rdn, parent string) {
	p.t.Helper()
	require.NoError(p.t, p.admin.ModifyDN(ldap.NewModifyDNRequest(dn, rdn, true, parent)))
}

func keys(f found) []string {
	var out []string
	for name := range f.entries {
		out = append(out, name)
	}
	return out
}

// TestContract holds what every dialect must keep, each on its real server.
func TestContract(t *testing.T) {
	for dialect, begin := range map[entry.Dialect]func(*testing.T) *peer{entry.AD: startAD, entry.Standard: startStandard, entry.DS389: startDS389} {
		t.Run(string(dialect), func(t *testing.T) {
			t.Parallel()
			p := begin(t)
			fleet := p.ou(p.server.BaseDN, "Fleet")
			deck := p.ou(fleet, "Deck")
			ada, mira := p.person(deck, "Ada Brekke"), p.person(fleet, "Mira Tangen")
			p.person(deck, "Jon Sletta")

			all := p.read(nil)
			assert.True(t, all.complete, "a first read names everything")
			require.Contains(t, all.entries, "cn=ada brekke")
			adaID, jonID := all.entries["cn=ada brekke"].ID, all.entries["cn=jon sletta"].ID
			assert.Equal(t, entry.User, all.entries["cn=ada brekke"].Kind)
			found, err := p.session.byID(dialect, p.server.BaseDN, adaID, "cn")
			require.NoError(t, err, "what is written goes by the id that was read")
			assert.Equal(t, "Ada Brekke", found.GetAttributeValue("cn"))
			assert.Equal(t, entry.Container, all.entries["ou=deck"].Kind)
			assert.Equal(t, "Mate", all.entries["cn=ada brekke"].Attributes.First("title"))
			assert.True(t, strings.EqualFold(ada, all.entries["cn=ada brekke"].DN), all.entries["cn=ada brekke"].DN)
			assert.Empty(t, all.gone)

			idle := p.changes()
			assert.Empty(t, idle.entries, "no change, nothing sent")
			assert.Empty(t, idle.gone)
			assert.False(t, idle.complete, "silence must never read as: everybody is gone")

			p.modify(ada, func(m *ldap.ModifyRequest) { m.Replace("title", []string{"Master"}) })
			got := p.changes()
			assert.Equal(t, []string{"cn=ada brekke"}, keys(got))
			assert.Equal(t, adaID, got.entries["cn=ada brekke"].ID)
			assert.Equal(t, "Master", got.entries["cn=ada brekke"].Attributes.First("title"))
			assert.Equal(t, "Ada Brekke", got.entries["cn=ada brekke"].Attributes.First("cn"), "a changed entry comes whole")

			p.modify(ada, func(m *ldap.ModifyRequest) { m.Delete("title", nil) })
			assert.Empty(t, p.changes().entries["cn=ada brekke"].Attributes.All("title"), "a removed attribute is noticed")

			p.move(ada, "CN=Ada Lind", fleet)
			got = p.changes()
			require.Contains(t, got.entries, "cn=ada lind")
			assert.Equal(t, adaID, got.entries["cn=ada lind"].ID, "a rename with a move keeps the id")
			assert.True(t, strings.EqualFold("CN=Ada Lind,"+fleet, got.entries["cn=ada lind"].DN))

			p.move(deck, "OU=Bridge", "")
			got = p.changes()
			require.Contains(t, got.entries, "ou=bridge", "a renamed container is sent")
			jon := "CN=Jon Sletta,OU=Bridge," + fleet

			require.NoError(t, p.admin.Del(ldap.NewDelRequest(jon, nil)))
			bo := p.person(fleet, "Bo Ravn")
			got = p.changes()
			assert.Equal(t, []entry.ID{jonID}, got.gone)
			assert.Equal(t, []string{"cn=bo ravn"}, keys(got))

			require.NoError(t, p.admin.Del(ldap.NewDelRequest(bo, nil)))
			p.modify(mira, func(m *ldap.ModifyRequest) { m.Replace("description", []string{"æøå \x01", "日本"}[:1]) })
			got = p.changes()
			assert.Equal(t, "æøå \x01", got.entries["cn=mira tangen"].Attributes.First("description"))
			assert.Len(t, got.gone, 1)

			restarted := p.read([]byte("no cookie of this server"))
			assert.True(t, restarted.complete, "a refused cookie leads to a full read by itself")
			assert.Contains(t, restarted.entries, "cn=ada lind")
			assert.NotContains(t, restarted.entries, "cn=jon sletta")
			assert.Empty(t, p.changes().entries)

			many := make([]string, 250)
			for i := range many {
				many[i] = p.person(fleet, fmt.Sprintf("Crew %03d", i))
			}
			assert.Len(t, p.changes().entries, len(many), "more changes than one fetch takes")
			p.watchTells(fleet)
			p.pollTells(fleet)
		})
	}
}

// pollTells asks a directory as one that does not tell: it hears of who comes and who is
// changed, and of nothing where nothing is.
func (p *peer) pollTells(parent string) {
	p.t.Helper()
	heard, opened, ended := make(chan struct{}, 1000), make(chan struct{}), make(chan error, 1)
	session, err := Open(p.t.Context(), connection(p.server))
	require.NoError(p.t, err)
	defer session.Close()
	ctx, stop := context.WithCancel(p.t.Context())
	go func() {
		ended <- session.Poll(ctx, p.dialect, p.server.BaseDN, 50*time.Millisecond, func() { close(opened) }, func() { heard <- struct{}{} })
	}()
	<-opened
	title := func() {
		p.modify("CN=Mira Tangen,"+parent, func(m *ldap.ModifyRequest) { m.Replace("title", []string{fmt.Sprint(time.Now().UnixNano())}) })
	}
	for _, one := range []struct {
		what   string
		change func()
	}{
		{"somebody who comes", func() { p.person(parent, "Pia Aas") }},
		{"a new title", title},
		// Mostly in the same second: times of whole seconds do not tell the two apart.
		{"the next title, at once", title},
	} {
		one.change()
		select {
		case <-heard:
		case err := <-ended:
			require.NoError(p.t, err, "it asks on")
		case <-time.After(time.Minute): // it rests for many times as long as it looked
			assert.Fail(p.t, "nothing was heard of "+one.what)
		}
	}
	tooLong := time.After(time.Minute)
	for quiet := false; !quiet; { // what is told again is told once
		select {
		case <-heard:
		case <-time.After(3 * time.Second):
			quiet = true
		case <-tooLong:
			require.Fail(p.t, "nothing changes, and it tells of changes")
		}
	}
	stop()
	assert.ErrorIs(p.t, <-ended, context.Canceled)
}

// watchTells hears of every sort of change as it comes, and of none where there is none; a
// watch ends when it is told to, and with its connection.
func (p *peer) watchTells(parent string) {
	p.t.Helper()
	heard := make(chan struct{}, 1000)
	begin := func(ctx context.Context) (*Session, chan error) {
		session, err := Open(ctx, connection(p.server))
		require.NoError(p.t, err)
		ended := make(chan error, 1)
		go func() {
			ended <- session.Watch(ctx, p.dialect, p.server.BaseDN, func() {}, func() { heard <- struct{}{} })
		}()
		return session, ended
	}
	within := func(what string, change func()) {
		p.t.Helper()
		change()
		select {
		case <-heard:
		case <-time.After(10 * time.Second):
			assert.Fail(p.t, "nothing was heard of "+what)
		}
		for quiet := false; !quiet; { // one change may be told more than once
			select {
			case <-heard:
			case <-time.After(300 * time.Millisecond):
				quiet = true
			}
		}
	}
	ctx, stop := context.WithCancel(p.t.Context())
	session, ended := begin(ctx)
	defer session.Close()
	one := ""
	// Until the search is open, nothing is heard; so the first one is made again.
	require.Eventually(p.t, func() bool {
		p.modify("CN=Mira Tangen,"+parent, func(m *ldap.ModifyRequest) { m.Replace("title", []string{fmt.Sprint(time.Now().UnixNano())}) })
		return len(heard) > 0
	}, 20*time.Second, 200*time.Millisecond)
	within("somebody who comes", func() { one = p.person(parent, "Eli Aas") })
	within("a rename", func() { p.move(one, "CN=Eli Nes", "") })
	within("somebody who goes", func() { require.NoError(p.t, p.admin.Del(ldap.NewDelRequest("CN=Eli Nes,"+parent, nil))) })
	stop()
	assert.ErrorIs(p.t, <-ended, context.Canceled)

	session, ended = begin(p.t.Context())
	require.Eventually(p.t, func() bool {
		p.modify("CN=Mira Tangen,"+parent, func(m *ldap.ModifyRequest) { m.Replace("title", []string{fmt.Sprint(time.Now().UnixNano())}) })
		return len(heard) > 0
	}, 20*time.Second, 200*time.Millisecond)
	session.Close()
	assert.Error(p.t, <-ended, "a connection that breaks is told")
}

func TestUndeletedEntriesComeBackWithTheirID(t *testing.T) {
	t.Parallel()
	p := startAD(t)
	dn := p.person(p.ou(p.server.BaseDN, "Fleet"), "Ada Brekke")
	id := p.read(nil).entries["cn=ada brekke"].ID
	require.NoError(t, p.admin.Del(ldap.NewDelRequest(dn, nil)))
	require.Equal(t, []entry.ID{id}, p.changes().gone)
	// Undeletion as AD-compatible directories do it: the tombstone's isDeleted
	// goes and its name comes back, in one modify with show-deleted.
	showDeleted := []ldap.Control{ldap.NewControlString(showDeletedControl, true, "")}
	tombstones, err := p.admin.Search(&ldap.SearchRequest{BaseDN: "CN=Deleted Objects," + p.server.BaseDN, Scope: ldap.ScopeSingleLevel,
		Filter: "(cn=Ada Brekke*)", Attributes: []string{"cn"}, Controls: showDeleted})
	require.NoError(t, err)
	require.Len(t, tombstones.Entries, 1)
	request := ldap.NewModifyRequest(tombstones.Entries[0].DN, showDeleted)
	request.Delete("isDeleted", nil)
	request.Replace("distinguishedName", []string{dn})
	require.NoError(t, p.admin.Modify(request))
	got := p.changes()
	require.Contains(t, got.entries, "cn=ada brekke")
	assert.Equal(t, id, got.entries["cn=ada brekke"].ID)
}

func TestOpenTellsWhichStepFailed(t *testing.T) {
	t.Parallel()
	p := startStandard(t)
	good := connection(p.server)
	for name, c := range map[string]struct {
		edit func(*Connection)
		want string
	}{
		"unknown host":       {func(c *Connection) { c.URL = "ldaps://nowhere.halvard.example" }, "look up the name"},
		"closed port":        {func(c *Connection) { c.URL = "ldaps://127.0.0.1:1" }, "connection refused"},
		"unknown authority":  {func(c *Connection) { c.CAFile = "" }, "verify the certificate"},
		"wrong host name":    {func(c *Connection) { c.URL = strings.Replace(c.URL, "127.0.0.1", "127.0.0.2", 1) }, "connection refused"},
		"wrong password":     {func(c *Connection) { c.Password = "wrong" }, "bind as " + good.BindDN + ": Invalid Credentials"},
		"no CA in the file":  {func(c *Connection) { c.CAFile = os.Args[0] }, "holds no certificate"},
		"plain, not allowed": {func(c *Connection) { c.URL = "ldap://127.0.0.1" }, "unprotected"},
		"not LDAP":           {func(c *Connection) { c.URL = "https://127.0.0.1" }, "ldaps or ldap"},
	} {
		bad := good
		c.edit(&bad)
		_, err := Open(t.Context(), bad)
		require.Error(t, err, name)
		assert.Equal(t, problem.DirectoryUnreachable, problem.CodeOf(err), name)
		assert.Contains(t, err.Error(), c.want, name)
		assert.NotContains(t, err.Error(), good.Password, name)
	}
}

func TestReadEndsWhenItsContextDoes(t *testing.T) {
	t.Parallel()
	p := startStandard(t)
	ctx, cancel := context.WithCancel(t.Context())
	stop := errors.New("stop")
	_, err := p.session.Read(ctx, Request{Dialect: p.dialect, Base: p.server.BaseDN}, func(Item) error { cancel(); return stop })
	require.ErrorIs(t, err, stop)
	_, err = p.session.Read(ctx, Request{Dialect: p.dialect, Base: p.server.BaseDN}, func(Item) error { return nil })
	require.ErrorIs(t, err, context.Canceled)
}

// TestALongReadIsNoSilence reads for longer than one request may take, as everybody of a large
// directory takes or whoever is slow to keep them, and then from a server that says nothing.
func TestALongReadIsNoSilence(t *testing.T) {
	t.Parallel()
	p := startStandard(t)
	const people, patience = 700, 1500 * time.Millisecond // more than are on their way at once
	ou := p.ou(p.server.BaseDN, "Crew")
	for i := range people {
		p.person(ou, fmt.Sprintf("Crew %04d", i))
	}
	p.session.conn.SetTimeout(patience)
	p.session.silent = patience
	read := 0
	_, err := p.session.Read(t.Context(), Request{Dialect: p.dialect, Base: p.server.BaseDN}, func(item Item) error {
		if item.Entry == nil {
			return nil
		}
		if read++; read == 1 {
			<-time.After(3 * patience)
		}
		return nil
	})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, read, people)

	require.NoError(t, syscall.Kill(p.server.PID(), syscall.SIGSTOP))
	t.Cleanup(func() { assert.NoError(t, syscall.Kill(p.server.PID(), syscall.SIGCONT)) })
	_, err = p.session.Read(t.Context(), Request{Dialect: p.dialect, Base: p.server.BaseDN}, func(Item) error { return nil })
	require.ErrorContains(t, err, "nothing more came for 1.5s")
	assert.Equal(t, problem.DirectoryUnreachable, problem.CodeOf(err))
}
