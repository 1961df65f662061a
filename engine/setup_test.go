package engine

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

func TestTheTreeShowsMarksAndWhatLiesBelow(t *testing.T) {
	t.Parallel()
	c := func(dn string, users int) store.Container {
		parsed, err := entry.ParseDN(dn)
		require.NoError(t, err)
		return store.Container{DN: dn, Path: parsed.Path(), Users: users}
	}
	path := func(dn string) string { return c(dn, 0).Path }
	tree := treeOf([]store.Container{
		c("DC=x", 0), c("CN=System,DC=x", 0), c("CN=Policies,CN=System,DC=x", 0), c("CN=Users,DC=x", 2), c("OU=Fleet,DC=x", 1), c(`OU=a\,b,OU=Fleet,DC=x`, 3), c("OU=Galley,OU=Fleet,DC=x", 4), c("OU=Empty,DC=x", 0), c("OU=Elsewhere,DC=y", 9),
	}, path("DC=x"), map[string]string{path("OU=Fleet,DC=x"): "include", path("OU=Galley,OU=Fleet,DC=x"): "exclude"})
	type row struct {
		name, state string
		mixed       bool
		below       int
		parent      string
	}
	var got []row
	for _, node := range tree {
		parent := ""
		if node.Parent >= 0 {
			parent = tree[node.Parent].Name
		}
		got = append(got, row{node.Name, node.State, node.Mixed, node.Below.Users, parent})
	}
	assert.Equal(t, []row{
		{"DC=x", "", true, 10, ""}, {"Users", "", false, 2, "DC=x"}, {"Fleet", "include", true, 8, "DC=x"}, {"a,b", "include", false, 3, "Fleet"}, {"Galley", "exclude", false, 4, "Fleet"}, {"Empty", "", false, 0, "DC=x"},
	}, got, "bare containers of the controller itself are left out, empty organizational units are not")
}

func TestEveryCapabilityTellsWhatItMeans(t *testing.T) {
	t.Parallel()
	for _, can := range []cloud.Capabilities{{}, {Patch: true, Filter: true, Sort: true, ETag: true, BulkOperations: 10, BulkPayload: 1 << 20, Index: true, Cursor: true, Pages: "cursor", MaxResults: 7, ChangePassword: true, SignIn: []string{"Bearer token"}}} {
		for _, line := range capabilityTable(can) {
			assert.NotEmpty(t, line.Meaning, line.Name)
		}
	}
}

func halvard(include ...string) wire.NewDirectory {
	return wire.NewDirectory{Name: "halvard", Dialect: settings.AD, Base: "DC=example", Include: include}
}

// TestDraftsOnAnEmptyService goes the way of a new user without a cloud or an
// agent: what can be known beforehand is told, and nothing is half done.
func TestDraftsOnAnEmptyService(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	draft, err := b.Draft(ctx)
	require.NoError(t, err)
	assert.Zero(t, draft.Version)
	assert.NotEmpty(t, draft.Faults, "an empty document cannot be activated, and says why")
	for want, in := range map[string]wire.NewDirectory{
		"small letters": {Name: "Halvard Ferries", Dialect: settings.AD, Base: "DC=example"},
		"RFC 4514":      {Name: "halvard", Dialect: settings.AD, Base: "example"},
		"does not lie":  halvard("OU=Fleet,DC=elsewhere"),
	} {
		_, err := b.AddDirectory(ctx, "ingrid", in)
		require.ErrorContains(t, err, want)
	}
	draft, err = b.AddDirectory(ctx, "ingrid", halvard())
	require.NoError(t, err)
	require.Len(t, draft.Faults, 1)
	assert.Equal(t, "directories[0].containers.include", draft.Faults[0].Path)
	_, err = b.AddDirectory(ctx, "odd", halvard())
	require.ErrorContains(t, err, "already")
	_, err = b.Impact(ctx, "ingrid")
	assert.Equal(t, problem.SettingsInvalid, problem.CodeOf(err))
	_, err = b.Survey(ctx, "ingrid", false)
	assert.Equal(t, problem.NoSettings, problem.CodeOf(err))
	_, err = b.EditDraft(ctx, "odd", draft.Version-1, func(*settings.Document) error { return nil })
	assert.Equal(t, problem.DraftChanged, problem.CodeOf(err))
	draft, err = b.EditDraft(ctx, "ingrid", draft.Version, func(d *settings.Document) error {
		d.Directories[0].Containers.Include = []string{"DC=example"}
		return nil
	})
	require.NoError(t, err)
	require.Empty(t, draft.Faults)
	id, err := b.Impact(ctx, "ingrid")
	require.NoError(t, err)
	require.NoError(t, b.Cancel(ctx, id))
	require.Error(t, b.Cancel(ctx, id+100))
	revision, err := b.ActivateDraft(ctx, "ingrid", draft.Version, "first")
	require.NoError(t, err)
	assert.Equal(t, 1, revision.Revision)
	_, err = b.ActivateDraft(ctx, "ingrid", draft.Version, "twice")
	assert.Equal(t, problem.DraftChanged, problem.CodeOf(err))

	// The only directory cannot be taken away, a wrong name takes nothing away.
	require.ErrorContains(t, b.RemoveDirectory(ctx, "ingrid", "halvard", "halvrad"), `"halvrad" was typed`)
	require.ErrorContains(t, b.RemoveDirectory(ctx, "ingrid", "halvard", "halvard"), "only directory")
	require.ErrorContains(t, b.RemoveDirectory(ctx, "ingrid", "nowhere", "nowhere"), "no directory")
	_, err = b.AddDirectory(ctx, "ingrid", wire.NewDirectory{Name: "brisling", Dialect: settings.Standard, Base: "dc=brisling,dc=example"})
	require.NoError(t, err)
	preview, err := b.RemovalOf(ctx, "brisling")
	require.NoError(t, err)
	assert.False(t, preview.Active)
	assert.Contains(t, preview.Text, "in the draft only")
	require.NoError(t, b.RemoveDirectory(ctx, "ingrid", "brisling", "brisling"))
	all, err := b.Directories(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.True(t, all[0].Active && all[0].InDraft)
	_, err = b.BringBack(ctx, "ingrid", 7)
	require.ErrorContains(t, err, "no such directory")
	require.NoError(t, b.DiscardDraft(ctx, "ingrid"))
	require.ErrorContains(t, b.DiscardDraft(ctx, "ingrid"), "no draft")
	text, err := b.Rights(ctx, "halvard", "S-1-5-21-7", []settings.Feature{settings.Unlock})
	require.NoError(t, err)
	assert.Contains(t, text, "S-1-5-21-7")
	assert.Contains(t, text, "lockoutTime")
	_, err = b.Probe(ctx, "halvard", []settings.Feature{"everything"})
	require.ErrorContains(t, err, "no feature")
}

// TestAskedWithoutAnAgent tells who could have answered.
func TestAskedWithoutAnAgent(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.options.AgentPatience = time.Millisecond
	ctx := t.Context()
	_, err := b.AddDirectory(ctx, "ingrid", halvard("DC=example"))
	require.NoError(t, err)
	_, err = b.Probe(ctx, "halvard", nil)
	assert.Equal(t, problem.DirectoryNotServed, problem.CodeOf(err))
	require.NoError(t, b.store.SaveAgent(ctx, &store.Agent{ID: agentOne, Name: "one", Directories: []string{"halvard"}, Granted: []string{"halvard"}, Plain: []string{"halvard"}, Enrolled: time.Now()}))
	_, err = b.Probe(ctx, "halvard", nil)
	assert.Equal(t, problem.AgentOffline, problem.CodeOf(err))
	assert.ErrorContains(t, err, "one")
	d, err := b.DirectoryOf(ctx, "halvard")
	require.NoError(t, err)
	assert.True(t, d.Plain, "plain LDAP is flagged")
	assert.Nil(t, d.Probe, "what nobody has answered is no probe")
	b.cloud, err = cloud.New("http://127.0.0.1:1/scim/v2", cloud.FixedToken("token"))
	require.NoError(t, err)
	health, err := b.Health(ctx)
	require.NoError(t, err)
	var codes []string
	for _, finding := range health.Findings {
		codes = append(codes, finding.Code)
	}
	assert.Contains(t, codes, string(problem.PlainLDAP))
}

func TestAProbeIsKeptAsItComes(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	order := store.Order{Directory: "halvard", Request: wire.Order{Kind: wire.OrderProbe, Directory: "halvard"}}
	require.NoError(t, b.store.AddOrder(ctx, &order))
	_, _, err := b.store.TakeOrder(ctx, agentOne, []string{"halvard"}, time.Minute)
	require.NoError(t, err)
	require.NoError(t, b.Ingest(ctx, order.ID, speaker(agentOne), strings.NewReader(lines(
		wire.Line{Verdict: &wire.Verdict{Step: "name", Outcome: "good"}}, wire.Line{Verdict: &wire.Verdict{Step: "clock", Outcome: "doubtful"}}, done("", false)))))
	kept, found, err := b.store.LastProbe(ctx, "halvard")
	require.NoError(t, err)
	require.True(t, found)
	assert.Equal(t, "doubtful", probeView(kept).Outcome)
	state, err := b.store.DirectoryStateOf(ctx, "halvard")
	require.NoError(t, err)
	assert.Empty(t, state.Directory, "a probe is no reading")
}

func TestScopeIsCountedFromTheMirror(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	b.give()
	require.NoError(t, b.Ingest(ctx, b.order, speaker(agentOne), strings.NewReader(lines(crew(1), crew(2), crew(3), done("c1", true)))))
	document := settings.Default(settings.Directory{Name: "halvard", Dialect: settings.AD, Base: "DC=example", Containers: settings.Containers{Include: []string{"DC=example"}}})
	document.Users.Filter = "(|(cn=1)(title=Mate))"
	counts, err := b.PreviewScope(ctx, document, 5, "crew 2")
	require.NoError(t, err)
	assert.Contains(t, counts.Missing, "halvard: title", "a count over attributes that were not read is flagged")
	assert.Equal(t, wire.KindScope{Kind: "user", Total: 3, In: 1, Verdicts: []wire.VerdictCount{
		{Code: "included", Title: "take part", Count: 1, Samples: []wire.Sample{}},
		{Code: "filtered", Title: "not kept by the filter", Count: 2, Samples: []wire.Sample{{Directory: "halvard", EntryID: id(2).String(), Name: "2", DN: "CN=Crew 2,DC=example", Summary: "out: the filter (|(cn=1)(title=Mate)) does not keep it"}}},
	}}, counts.Kinds[0])
	document.Users.Filter = "(cn="
	_, err = b.PreviewScope(ctx, document, 0, "")
	require.Error(t, err)
	for text, column := range map[string]int{"(cn=a": 6, "cn=a": 1, "(&(cn=a)(": 10} {
		checked := CheckFilter(text)
		require.NotNil(t, checked.Fault, text)
		assert.Equal(t, column, checked.Fault.Column, text)
		assert.Nil(t, checked.Tree)
	}
	checked := CheckFilter("(&(cn=a*b)(!(uid:dn:=x)))")
	require.NotNil(t, checked.Tree)
	assert.Equal(t, []string{"a", "b"}, checked.Tree.Children[0].Parts)
}
