package directory

import (
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/lab/servers"
)

// TestChangesAreReadByTheirTimes is the contract of a directory that does not tell what
// changed: what came within a minute may come again, and who is gone is told by who is
// still there.
func TestChangesAreReadByTheirTimes(t *testing.T) {
	t.Parallel()
	for dialect, start := range map[entry.Dialect]func(*testing.T) *peer{
		entry.Standard: func(t *testing.T) *peer { return startStandardWith(t, servers.OpenLDAPOptions{NoSync: true}) },
		entry.DS389:    func(t *testing.T) *peer { return startDS389With(t, servers.DS389Options{}) },
	} {
		t.Run(string(dialect), func(t *testing.T) {
			t.Parallel()
			start(t).readsByTimes()
		})
	}
}

func (p *peer) readsByTimes() {
	t := p.t
	fleet := p.ou(p.server.BaseDN, "Fleet")
	ada, jon := p.person(fleet, "Ada Brekke"), p.person(fleet, "Jon Sletta")
	crew := p.group(fleet, "Crew", []string{ada, jon})
	all := p.read(nil)
	require.True(t, all.complete)
	require.Contains(t, all.entries, "cn=ada brekke")
	assert.Empty(t, all.entries["cn=ada brekke"].Attributes.All("modifyTimestamp"), "asked for to learn of changes only")
	assert.Len(t, all.entries["cn=crew"].Members, 2)
	here := len(all.entries) // the account of the agent is of no kind that is mirrored
	id := all.entries["cn=ada brekke"].ID

	p.modify(ada, func(m *ldap.ModifyRequest) { m.Replace("title", []string{"Master"}) })
	p.modify(crew, func(m *ldap.ModifyRequest) { m.Delete("member", []string{jon}) })
	got := p.changes()
	assert.Equal(t, "Master", got.entries["cn=ada brekke"].Attributes.First("title"))
	assert.Len(t, got.entries["cn=crew"].Members, 1)
	assert.True(t, got.complete)
	assert.GreaterOrEqual(t, got.present, here)

	p.move(ada, "CN=Ada Lind", p.server.BaseDN)
	got = p.changes()
	require.Contains(t, got.entries, "cn=ada lind")
	assert.Equal(t, id, got.entries["cn=ada lind"].ID, "a rename with a move keeps the id")

	before := got.present
	require.NoError(t, p.admin.Del(ldap.NewDelRequest(jon, nil)))
	assert.Equal(t, before-1, p.changes().present, "who is gone is not named")

	again := p.read([]byte("modifyTimestamp nothing that one could read"))
	assert.True(t, again.restart)
	assert.Contains(t, again.entries, "cn=ada lind", "a cookie that cannot be read leads to a full read")
}

func TestProbeSaysByWhichWayChangesAreRead(t *testing.T) {
	t.Parallel()
	for want, options := range map[string]servers.OpenLDAPOptions{
		"a run reads just what changed":                                   {},
		"by modifyTimestamp, and the ids of all entries":                  {NoSync: true},
		"no modifyTimestamp to be read: each run reads everything":        {NoSync: true, Access: "access to attrs=modifyTimestamp by * none"},
		"it has no entryUUID and no nsUniqueId that the account may read": {NoSync: true, Access: "access to attrs=entryUUID by * none"},
	} {
		t.Run(want, func(t *testing.T) {
			t.Parallel()
			p := startStandardWith(t, options)
			p.ou(p.server.BaseDN, "Fleet")
			found := map[Step]Verdict{}
			for _, v := range Probe(t.Context(), connection(p.server), ProbeRequest{Dialect: entry.Standard, Base: p.server.BaseDN}, time.Now) {
				found[v.Step] = v
			}
			assert.Contains(t, found[StepChanges].Detail, want)
		})
	}
}

func TestATimeIsLookedAtAgainUntilNothingCanComeOfIt(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 11, 26, 1, 0, 0, 0, time.UTC)
	c := byTime{}.next("20261126005959Z", at)
	assert.Equal(t, "20261126005859Z", c.since(), "a minute back")
	soon := c.next("20261126005959Z", at.Add(30*time.Second))
	assert.Equal(t, "20261126005859Z", soon.since(), "too early to be sure")
	later := soon.next("20261126005959Z", at.Add(10*time.Minute))
	assert.Equal(t, "20261126010000Z", later.since(), "looked for again, long after: nothing more can come of that second")
	newer := later.next("20261126011000Z", at.Add(11*time.Minute))
	assert.Equal(t, "20261126010900Z", newer.since())
	text, err := newer.cookie()
	require.NoError(t, err)
	read, err := readByTimeCookie(text)
	require.NoError(t, err)
	assert.Equal(t, newer, read)
	_, err = readByTimeCookie([]byte(`modifyTimestamp {"newest":"yesterday"}`))
	assert.Error(t, err)
}

func TestEntriesAreKnownByTheIDsThatServersHave(t *testing.T) {
	t.Parallel()
	const id = "3d864a23-61ab-4c6d-868c-c7fa6b6ff1de"
	for name, attribute := range map[string]*ldap.EntryAttribute{
		"entryUUID":  ldap.NewEntryAttribute("entryUUID", []string{id}),
		"nsUniqueId": ldap.NewEntryAttribute("nsUniqueId", []string{"3d864a23-61ab4c6d-868cc7fa-6b6ff1de"}),
	} {
		got, err := idOf(&ldap.Entry{Attributes: []*ldap.EntryAttribute{attribute}}, standard{}.ids())
		require.NoError(t, err, name)
		assert.Equal(t, id, got.String(), name)
	}
	for _, bad := range []string{"", "3d864a23"} {
		_, err := idOf(&ldap.Entry{Attributes: []*ldap.EntryAttribute{ldap.NewEntryAttribute("nsUniqueId", []string{bad})}}, standard{}.ids())
		assert.Error(t, err)
	}
}
