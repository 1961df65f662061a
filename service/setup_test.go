package service

import (
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/orders/orderstest"
	"kambrel.example/kambrel/service/setup"
	"kambrel.example/kambrel/service/store"
)

// bench is a service whose cloud answers nothing.
type bench struct {
	*Service
	t *testing.T
}

func newBench(t *testing.T) *bench {
	t.Helper()
	return newBenchWith(t, Options{})
}

func newBenchWith(t *testing.T, options Options) *bench {
	t.Helper()
	s := orderstest.Store(t)
	away, err := cloud.New("http://127.0.0.1:1/scim/v2", cloud.FixedToken("none")) // nobody answers there
	require.NoError(t, err)
	return &bench{Service: New(s, away, options), t: t}
}

func halvard(include ...string) wire.NewDirectory {
	return wire.NewDirectory{Name: "halvard", Dialect: entry.AD, Base: "DC=example", Include: include}
}

// TestDraftsOnAnEmptyService goes the way of a new user without a cloud or an
// agent: what can be known beforehand is told, and nothing is half done.
func TestDraftsOnAnEmptyService(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	draft, err := b.Setup.Draft(ctx)
	require.NoError(t, err)
	assert.Zero(t, draft.Version)
	assert.NotEmpty(t, draft.Faults, "an empty document cannot be activated, and says why")
	for want, in := range map[string]wire.NewDirectory{
		"small letters": {Name: "Halvard Ferries", Dialect: entry.AD, Base: "DC=example"},
		"RFC 4514":      {Name: "halvard", Dialect: entry.AD, Base: "example"},
		"does not lie":  halvard("OU=Fleet,DC=elsewhere"),
	} {
		_, err := b.Setup.AddDirectory(ctx, "ingrid", in)
		require.ErrorContains(t, err, want)
	}
	draft, err = b.Setup.AddDirectory(ctx, "ingrid", halvard())
	require.NoError(t, err)
	require.Len(t, draft.Faults, 1)
	assert.Equal(t, "directories[0].containers.include", draft.Faults[0].Path)
	_, err = b.Setup.AddDirectory(ctx, "odd", halvard())
	require.ErrorContains(t, err, "already")
	_, err = b.Setup.Impact(ctx, "ingrid")
	assert.Equal(t, problem.SettingsInvalid, problem.CodeOf(err))
	_, err = b.Setup.Survey(ctx, "ingrid", false)
	assert.Equal(t, problem.NoSettings, problem.CodeOf(err))
	_, err = b.Setup.EditDraft(ctx, "odd", draft.Version-1, func(*settings.Document) error { return nil })
	assert.Equal(t, problem.DraftChanged, problem.CodeOf(err))
	draft, err = b.Setup.EditDraft(ctx, "ingrid", draft.Version, func(d *settings.Document) error {
		d.Directories[0].Containers.Include = []string{"DC=example"}
		return nil
	})
	require.NoError(t, err)
	require.Empty(t, draft.Faults)
	id, err := b.Setup.Impact(ctx, "ingrid")
	require.NoError(t, err)
	require.NoError(t, b.Jobs.Cancel(ctx, id, "ingrid"))
	require.Error(t, b.Jobs.Cancel(ctx, id+100, "ingrid"))
	revision, err := b.Setup.ActivateDraft(ctx, "ingrid", draft.Version, "first", false)
	require.NoError(t, err)
	assert.Equal(t, 1, revision.Revision)
	_, err = b.Setup.ActivateDraft(ctx, "ingrid", draft.Version, "twice", false)
	assert.Equal(t, problem.DraftChanged, problem.CodeOf(err))

	// The only directory cannot be taken away, a wrong name takes nothing away.
	require.ErrorContains(t, b.Setup.RemoveDirectory(ctx, "ingrid", "halvard", "halvrad"), `"halvrad" was typed`)
	require.ErrorContains(t, b.Setup.RemoveDirectory(ctx, "ingrid", "halvard", "halvard"), "only directory")
	require.ErrorContains(t, b.Setup.RemoveDirectory(ctx, "ingrid", "nowhere", "nowhere"), "no directory")
	_, err = b.Setup.AddDirectory(ctx, "ingrid", wire.NewDirectory{Name: "brisling", Dialect: entry.Standard, Base: "dc=brisling,dc=example"})
	require.NoError(t, err)
	preview, err := b.Setup.RemovalOf(ctx, "brisling")
	require.NoError(t, err)
	assert.False(t, preview.Active)
	assert.Contains(t, preview.Text, "in the draft only")
	require.NoError(t, b.Setup.RemoveDirectory(ctx, "ingrid", "brisling", "brisling"))
	all, err := b.Setup.Directories(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.True(t, all[0].Active && all[0].InDraft)
	_, err = b.Setup.BringBack(ctx, "ingrid", 7)
	require.ErrorContains(t, err, "no such directory")
	require.NoError(t, b.Setup.DiscardDraft(ctx, "ingrid"))
	require.ErrorContains(t, b.Setup.DiscardDraft(ctx, "ingrid"), "no draft")
	text, err := b.Setup.Rights(ctx, "halvard", "S-1-5-21-7", []entry.Feature{entry.FeatureUnlock})
	require.NoError(t, err)
	assert.Contains(t, text, "S-1-5-21-7")
	assert.Contains(t, text, "lockoutTime")
	_, err = b.Setup.Probe(ctx, "halvard", "", []entry.Feature{"everything"})
	require.ErrorContains(t, err, "no feature")
}

// TestAskedWithoutAnAgent tells who could have answered.
func TestAskedWithoutAnAgent(t *testing.T) {
	t.Parallel()
	b := newBenchWith(t, Options{AgentPatience: time.Millisecond})
	ctx := t.Context()
	_, err := b.Setup.AddDirectory(ctx, "ingrid", halvard("DC=example"))
	require.NoError(t, err)
	_, err = b.Setup.Probe(ctx, "halvard", "", nil)
	assert.Equal(t, problem.DirectoryNotServed, problem.CodeOf(err))
	require.NoError(t, b.Store.Agents.Save(ctx, &store.Agent{ID: orderstest.Agent, Name: "one", Directories: []string{"halvard"}, Granted: []string{"halvard"}, Plain: []string{"halvard"}, Enrolled: time.Now()}))
	_, err = b.Setup.Probe(ctx, "halvard", "", nil)
	assert.Equal(t, problem.AgentOffline, problem.CodeOf(err))
	assert.ErrorContains(t, err, "one")
	d, err := b.Setup.DirectoryOf(ctx, "halvard")
	require.NoError(t, err)
	assert.True(t, d.Plain, "plain LDAP is flagged")
	assert.Nil(t, d.Probe, "what nobody has answered is no probe")
	health, err := b.Health.Now(ctx)
	require.NoError(t, err)
	var codes []string
	for _, finding := range health.Attention {
		codes = append(codes, finding.Code)
	}
	assert.Contains(t, codes, string(problem.PlainLDAP))
}

// TestHowThingsStandOpensAndClosesProblems lets an agent come and go, and looks at
// what is kept of that.
func TestHowThingsStandOpensAndClosesProblems(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	open := func(closed bool) map[string]wire.Problem {
		list, _, err := b.Problems.List(ctx, store.ProblemQuery{Closed: closed, Limit: 10})
		require.NoError(t, err)
		found := map[string]wire.Problem{}
		for _, p := range list {
			found[p.Code] = p
		}
		return found
	}
	require.NoError(t, b.Health.Watch(ctx))
	assert.Contains(t, open(false), string(problem.NoSettings))
	draft, err := b.Setup.AddDirectory(ctx, "ingrid", halvard("DC=example"))
	require.NoError(t, err)
	revision, err := b.Setup.ActivateDraft(ctx, "ingrid", draft.Version, "first", false)
	require.NoError(t, err)
	activated, _, err := b.Acts.List(ctx, store.ActQuery{Kind: act.Activate, Key: strconv.Itoa(revision.Revision), Limit: 10})
	require.NoError(t, err)
	require.Len(t, activated, 1)
	assert.Contains(t, string(activated[0].After), "DC=example", "what differs is in the act")
	require.NoError(t, b.Health.Watch(ctx))
	assert.NotContains(t, open(false), string(problem.NoSettings))
	first := open(false)[string(problem.AgentOffline)]
	assert.Equal(t, about.Thing{Type: about.Directory, Key: "halvard"}, first.About)
	now := time.Now()
	require.NoError(t, b.Store.Agents.Save(ctx, &store.Agent{ID: orderstest.Agent, Name: "one", Directories: []string{"halvard", "brisling"}, Granted: []string{"halvard"}, Plain: []string{}, Enrolled: now, LastContact: &now}))
	require.NoError(t, b.Health.Watch(ctx))
	require.NoError(t, b.Health.Watch(ctx))
	closed := open(true)[string(problem.AgentOffline)]
	assert.Equal(t, first.ID, closed.ID, "the problem stays in the history")
	assert.Equal(t, store.ClosedGone, closed.Closing)
	assert.Empty(t, closed.Remedies)
	asks := open(false)[string(problem.DirectoryNotGranted)]
	assert.Equal(t, "one", asks.Name)
	assert.Equal(t, 1, asks.Times, "looking again is no second time")
	require.Len(t, asks.Remedies, 1)
	assert.Equal(t, "kambrel agent grant "+orderstest.Agent+" brisling", asks.Remedies[0].Command)

	health, err := b.Health.Now(ctx)
	require.NoError(t, err)
	assert.Equal(t, "attention", health.State)
	require.NotEmpty(t, health.Attention)
	assert.Equal(t, asks.Since, *health.Attention[0].Since)
	assert.Equal(t, asks.Remedies, health.Attention[0].Remedies)

	// Granted by its remedy, it closes; and what was granted before is noted.
	_, err = b.Agents.Grant(ctx, "ingrid", asks.Remedies[0].Agent, asks.Remedies[0].Directories)
	require.NoError(t, err)
	require.NoError(t, b.Health.Watch(ctx))
	assert.Empty(t, open(false))
	health, err = b.Health.Now(ctx)
	require.NoError(t, err)
	assert.Equal(t, "well", health.State)
	assert.Equal(t, []wire.Attention{}, health.Attention, "an empty list, and not null")
	acts, total, err := b.Acts.List(ctx, store.ActQuery{Type: about.Agent, Limit: 10})
	require.NoError(t, err)
	require.Equal(t, 1, total)
	assert.Equal(t, act.Grant, acts[0].Undo)
	assert.JSONEq(t, `{"name": "one", "directories": ["halvard"]}`, string(acts[0].Before))
	assert.JSONEq(t, `{"name": "one", "directories": ["halvard", "brisling"]}`, string(acts[0].After))
	_, err = b.Agents.Grant(ctx, "ingrid", "00000000-0000-4000-8000-000000000000", []string{"halvard"})
	assert.Equal(t, problem.NotFound, problem.CodeOf(err))
	_, total, err = b.Acts.List(ctx, store.ActQuery{Type: about.Agent, Limit: 10})
	require.NoError(t, err)
	assert.Equal(t, 1, total, "what was not done is not noted")
}

func TestAProbeIsKeptAsItComes(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	order := store.Order{Directory: "halvard", Request: protocol.Order{Directory: "halvard", Probe: &protocol.Probe{}}}
	require.NoError(t, b.Store.Orders.Add(ctx, &order))
	_, _, err := b.Store.Orders.Take(ctx, orderstest.Agent, []string{"halvard"}, protocol.LaneAny, time.Minute)
	require.NoError(t, err)
	require.NoError(t, b.Orders.Ingest(ctx, order.ID, orderstest.Speaker(orderstest.Agent), strings.NewReader(orderstest.Lines(
		protocol.Line{Verdict: &protocol.Verdict{Step: "name", Outcome: "good"}}, protocol.Line{Verdict: &protocol.Verdict{Step: "clock", Outcome: "doubtful"}}, orderstest.Done("", false)))))
	_, err = b.Setup.AddDirectory(ctx, "ingrid", wire.NewDirectory{Name: "halvard", Dialect: entry.AD, Base: "DC=halvard,DC=example"})
	require.NoError(t, err)
	shown, err := b.Setup.DirectoryOf(ctx, "halvard")
	require.NoError(t, err)
	require.NotNil(t, shown.Probe)
	assert.Equal(t, "doubtful", shown.Probe.Outcome)
	state, err := b.Store.Entries.StateOf(ctx, "halvard")
	require.NoError(t, err)
	assert.Empty(t, state.Directory, "a probe is no reading")
}

func TestScopeOfManyIsEstimatedFromSome(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	const people = 4000
	lines := make([]protocol.Line, 0, people+1)
	for i := range people {
		lines = append(lines, orderstest.Crew(i+1))
	}
	order := orderstest.Give(t, b.Store)
	require.NoError(t, b.Orders.Ingest(ctx, order, orderstest.Speaker(orderstest.Agent), strings.NewReader(orderstest.Lines(append(lines, orderstest.Done("c1", true))...))))
	document := settings.Default(settings.Directory{Name: "halvard", Dialect: entry.AD, Base: "DC=example", Containers: settings.Containers{Include: []string{"DC=example"}}})
	document.Users.Filter = "(!(cn=*7))" // one in ten
	all, err := b.Setup.PreviewScope(ctx, "ida", document, wire.ScopePreview{})
	require.NoError(t, err)
	assert.Equal(t, people*9/10, all.Kinds[0].In)
	assert.Zero(t, all.Kinds[0].LookedAt, "all were counted")
	some, err := b.Setup.PreviewScope(ctx, "ida", document, wire.ScopePreview{LookAt: 800, Samples: 3})
	require.NoError(t, err)
	users := some.Kinds[0]
	assert.Equal(t, people, users.Total, "how many there are is known")
	assert.InDelta(t, 800, users.LookedAt, 500)
	assert.InDelta(t, people*9/10, users.In, people/10)
	require.NotEmpty(t, users.Verdicts)
	assert.Len(t, users.Verdicts[0].Samples, 3)
	few, err := b.Setup.PreviewScope(ctx, "ida", document, wire.ScopePreview{LookAt: 1500})
	require.NoError(t, err)
	assert.Equal(t, all, few, "of what are not many more all are counted")
}

func TestScopeIsCountedFromTheMirror(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	order := orderstest.Give(t, b.Store)
	require.NoError(t, b.Orders.Ingest(ctx, order, orderstest.Speaker(orderstest.Agent), strings.NewReader(orderstest.Lines(orderstest.Crew(1), orderstest.Crew(2), orderstest.Crew(3), orderstest.Done("c1", true)))))
	document := settings.Default(settings.Directory{Name: "halvard", Dialect: entry.AD, Base: "DC=example", Containers: settings.Containers{Include: []string{"DC=example"}}})
	document.Users.Filter = "(|(cn=1)(title=Mate))"
	counts, err := b.Setup.PreviewScope(ctx, "ida", document, wire.ScopePreview{Samples: 5, Text: "crew 2"})
	require.NoError(t, err)
	assert.Contains(t, counts.Missing, "halvard: title", "a count over attributes that were not read is flagged")
	assert.Equal(t, wire.KindScope{Kind: "user", Total: 3, In: 1, Verdicts: []wire.VerdictCount{
		{Code: "included", Title: "take part", Count: 1, Samples: []wire.Sample{}},
		{Code: "filtered", Title: "not kept by the filter", Count: 2, Samples: []wire.Sample{{Directory: "halvard", EntryID: orderstest.ID(2).String(), Name: "2", DN: "CN=Crew 2,DC=example", Summary: "out: the filter (|(cn=1)(title=Mate)) does not keep it"}}},
	}}, counts.Kinds[0])
	document.Users.Filter = "(cn="
	_, err = b.Setup.PreviewScope(ctx, "ida", document, wire.ScopePreview{})
	require.Error(t, err)
	for text, column := range map[string]int{"(cn=a": 6, "cn=a": 1, "(&(cn=a)(": 10} {
		checked := setup.CheckFilter(text)
		require.NotNil(t, checked.Fault, text)
		assert.Equal(t, column, checked.Fault.Column, text)
		assert.Nil(t, checked.Tree)
	}
	checked := setup.CheckFilter("(&(cn=a*b)(!(uid:dn:=x)))")
	require.NotNil(t, checked.Tree)
	assert.Equal(t, []string{"a", "b"}, checked.Tree.Children[0].Parts)
}
