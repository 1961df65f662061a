package store

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/core/textkey"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/lab/servers/serverstest"
	protocol "kambrel.example/kambrel/protocol/orders"
)

// open gives each test a database of its own on one server.
func open(t *testing.T, server *servers.Postgres) *Store {
	t.Helper()
	dsn, err := server.Create(t.Context(), fmt.Sprintf("t%d_%d", os.Getpid(), time.Now().UnixNano()))
	require.NoError(t, err)
	s, err := Open(t.Context(), dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// halvard is where the entries of tests come from.
var halvard = Source{Directory: "halvard", ByName: true}

func somebody(n int, dn string) *entry.Entry {
	id, _ := entry.NewID(fmt.Sprintf("00000000-0000-4000-8000-%012d", n))
	return &entry.Entry{Directory: "halvard", ID: id, Kind: entry.User, DN: dn, Attributes: entry.Attributes{"cn": {fmt.Sprintf("Crew %d", n)}, "mail": {fmt.Sprintf("crew%d@halvard.example", n)}}}
}

func container(n int, dn string) *entry.Entry {
	e := somebody(n, dn)
	e.Kind = entry.Container
	return e
}

func ref(e *entry.Entry) entry.Ref { return entry.Ref{Directory: "halvard", ID: e.ID} }

func resource(id, login, key string) entry.Resource {
	return entry.Resource{"id": id, "userName": login, "externalId": key, "active": true, "displayName": "Name of " + id}
}

func (s *session) dirtyCount(t *testing.T) int {
	t.Helper()
	n, err := s.all().Dirty.Count(t.Context(), DirtyQuery{State: DirtyNow})
	require.NoError(t, err)
	return n
}

func (s *session) clean(t *testing.T) {
	t.Helper()
	_, err := s.exec(t.Context(), `DELETE FROM dirty`)
	require.NoError(t, err)
}

func (s *session) newRun(t *testing.T) int64 {
	t.Helper()
	id, err := s.all().Runs.New(t.Context(), Run{Purpose: purpose.Sync, By: "test"}, false)
	require.NoError(t, err)
	return id
}

func TestStore(t *testing.T) {
	server, err := serverstest.New(t).StartPostgres(t.Context(), 0, true)
	require.NoError(t, err)
	for name, test := range map[string]func(*testing.T, *Store){
		"an unchanged entry costs no write":             unchangedEntries,
		"a renamed container renames what lies below":   renamedContainers,
		"what a complete read does not name is gone":    goneEntries,
		"changed resources mark their entries":          changedResources,
		"holders of keys are found by index":            holdersByIndex,
		"an entry may be marked twice at once":          namedTwice,
		"members of a large group are compared once":    newMembers,
		"a claimed value belongs to one":                claims,
		"two planners never get the same entries":       skipLocked,
		"an order belongs to one agent at a time":       orders,
		"an interrupted run's changes are planned anew": superseded,
		"problems know since when and how often":        problems,
		"objects are found by every id":                 find,
		"objects are listed by state, text and order":   listed,
		"changes of a run are searched and paged":       pagedChanges,
		"parts of names are indexed in a large mirror":  indexedParts,
		"membership is known through other groups":      memberships,
		"a draft's version never comes again":           drafts,
		"only what writes nothing can be cancelled":     cancelling,
		"containers are counted and keep former names":  containers,
		"a directory comes back with its links":         removals,
		"findings are kept by survey":                   surveys,
		"each repaired value has a result and a line":   repairs,
		"parts of several changes of one are held":      heldParts,
		"the last probe is kept":                        probes,
		"everybody is looked at once":                   everybody,
		"codes, tokens and sessions end":                secrets,
		"one service executes runs":                     oneRunner,
		"events reach every listener":                   events,
		"an activation is kept whole":                   activated,
		"quiet runs are pruned first":                   prune,
		"what was on its way and not answered is sent":  onTheirWay,
		"who claims the same waits for the other":       claimsWait,
		"times of a clock that is off are carried over": clockBehind,
		"no log gets the values of a statement":         statementsWithoutValues,
	} {
		t.Run(name, func(t *testing.T) { test(t, open(t, server)) })
	}
}

func unchangedEntries(t *testing.T, s *Store) {
	ctx := t.Context()
	a, b := somebody(1, "CN=A,OU=Fleet,DC=example"), somebody(2, `CN=O'Neil\, \"B\",OU=Fleet,DC=example`)
	stored, err := s.Entries.Store(ctx, halvard, []*entry.Entry{a, b})
	require.NoError(t, err)
	assert.Equal(t, Stored{Added: 2}, stored)
	assert.Equal(t, 2, s.dirtyCount(t))
	s.clean(t)
	stored, err = s.Entries.Store(ctx, halvard, []*entry.Entry{a, b})
	require.NoError(t, err)
	assert.Equal(t, Stored{}, stored)
	assert.Zero(t, s.dirtyCount(t))
	a.Attributes["title"] = []string{"Mate {} \\ \" æøå"}
	twice := somebody(1, "CN=older word,OU=Fleet,DC=example")
	stored, err = s.Entries.Store(ctx, halvard, []*entry.Entry{twice, a})
	require.NoError(t, err)
	assert.Equal(t, Stored{Changed: 1}, stored)
	got, err := s.Entries.Get(ctx, "halvard", a.ID)
	require.NoError(t, err)
	assert.Equal(t, *a, got, "the last word on an entry counts")
	_, err = s.Entries.Get(ctx, "brisling", a.ID)
	assert.True(t, NotFound(err))
}

func renamedContainers(t *testing.T, s *Store) {
	ctx := t.Context()
	fleet := container(1, "OU=Fleet,DC=example")
	inside, beside := somebody(2, "CN=A,OU=Deck,OU=Fleet,DC=example"), somebody(3, "CN=B,OU=Fleetwood,DC=example")
	_, err := s.Entries.Store(ctx, halvard, []*entry.Entry{fleet, inside, beside})
	require.NoError(t, err)
	s.clean(t)
	_, err = s.Entries.Store(ctx, halvard, []*entry.Entry{container(1, "OU=Ships,DC=example")})
	require.NoError(t, err)
	got, err := s.Entries.Get(ctx, "halvard", inside.ID)
	require.NoError(t, err)
	assert.Equal(t, "CN=A,OU=Deck,OU=Ships,DC=example", got.DN)
	got, err = s.Entries.Get(ctx, "halvard", beside.ID)
	require.NoError(t, err)
	assert.Equal(t, beside.DN, got.DN, "a name that begins alike is not below")
	assert.Equal(t, 1, s.dirtyCount(t))
	missing, err := s.Entries.Missing(ctx, "halvard", "DC=example", []string{"OU=Fleet,DC=example", "ou=ships,dc=EXAMPLE", "DC=example"})
	require.NoError(t, err)
	assert.Equal(t, []string{"OU=Fleet,DC=example"}, missing)
	hits, total, err := s.Search.Find(ctx, FindQuery{Text: "OU=Ships", Limit: 10})
	require.NoError(t, err)
	assert.Equal(t, Total{N: 1}, total)
	assert.Equal(t, inside.ID.String(), hits[0].EntryID)
}

func goneEntries(t *testing.T, s *Store) {
	ctx := t.Context()
	a, b := somebody(1, "CN=A,DC=example"), somebody(2, "CN=B,DC=example")
	_, err := s.Entries.Store(ctx, halvard, []*entry.Entry{a, b})
	require.NoError(t, err)
	s.clean(t)
	n, _, err := s.Entries.MarkGoneExcept(ctx, "halvard", map[entry.ID]struct{}{a.ID: {}}, false)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	n, err = s.Entries.MarkGone(ctx, "halvard", []entry.ID{b.ID})
	require.NoError(t, err)
	assert.Zero(t, n, "gone already")
	got, err := s.Entries.Get(ctx, "halvard", b.ID)
	require.NoError(t, err)
	assert.True(t, got.Gone, "the row stays, for why")
	stored, err := s.Entries.Store(ctx, halvard, []*entry.Entry{b})
	require.NoError(t, err)
	assert.Equal(t, Stored{Changed: 1}, stored, "back from deletion")
}

func changedResources(t *testing.T, s *Store) {
	ctx := t.Context()
	a := somebody(1, "CN=A,DC=example")
	_, err := s.Entries.Store(ctx, halvard, []*entry.Entry{a})
	require.NoError(t, err)
	r := resource("r1", "A@halvard.example", a.LinkKey())
	changed, err := s.Resources.Store(ctx, entry.User, []entry.Resource{r, resource("r2", "b@halvard.example", "")}, nil, true)
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"r1", "r2"}, changed)
	require.NoError(t, s.Links.Save(ctx, 1, []NewLink{{ref(a), entry.User, a.LinkKey(), "r1", "create"}}))
	s.clean(t)
	changed, err = s.Resources.Store(ctx, entry.User, []entry.Resource{r}, nil, true)
	require.NoError(t, err)
	assert.Empty(t, changed)
	assert.Zero(t, s.dirtyCount(t))
	r["title"] = "Mate"
	_, err = s.Resources.Store(ctx, entry.User, []entry.Resource{r}, nil, true)
	require.NoError(t, err)
	assert.Equal(t, 1, s.dirtyCount(t))
	holders, err := s.Facts.Holders(ctx, []string{"userName=a@halvard.example", "userName=b@halvard.example", "userName=none"})
	require.NoError(t, err)
	assert.Equal(t, a.DN, holders["userName=a@halvard.example"][0].LinkedDN)
	assert.Empty(t, holders["userName=b@halvard.example"][0].LinkedDN)
	assert.NotContains(t, holders, "userName=none")
	s.clean(t)
	others, err := s.Resources.Except(ctx, entry.User, textkey.Set{textkey.Of("r2"): {}})
	require.NoError(t, err)
	assert.Equal(t, []string{"r1"}, others)
	require.NoError(t, s.Resources.Drop(ctx, others))
	dirty, err := s.Dirty.Next(ctx, DirtyQuery{State: DirtyNow, Limit: 10})
	require.NoError(t, err)
	require.Len(t, dirty, 1)
	assert.True(t, dirty[0].Lookup, "it is looked up before it is made again")
	assert.Nil(t, dirty[0].Resource)
	assert.Equal(t, "r1", dirty[0].Link.ResourceID)
}

func claims(t *testing.T, s *Store) {
	ctx := t.Context()
	a, b := somebody(1, "CN=A,DC=example"), somebody(2, "CN=B,DC=example")
	_, err := s.Entries.Store(ctx, halvard, []*entry.Entry{a, b})
	require.NoError(t, err)
	taken, err := s.Facts.Claim(ctx, []entry.Ref{ref(a), ref(b)}, []decide.Claim{{Ref: ref(a), Key: "userName=x"}, {Ref: ref(b), Key: "userName=x"}})
	require.NoError(t, err)
	assert.Equal(t, decide.Claimant{Ref: ref(a), DN: a.DN, Dirty: true}, taken["userName=x"], "the first in order has it, and has still to be planned")
	require.NoError(t, s.Dirty.Clear(ctx, []entry.Ref{ref(a)}))
	taken, err = s.Facts.Claim(ctx, []entry.Ref{ref(b)}, []decide.Claim{{Ref: ref(b), Key: "userName=x"}})
	require.NoError(t, err)
	assert.False(t, taken["userName=x"].Dirty)
	require.NoError(t, s.Facts.Unclaim(ctx, []entry.Ref{ref(a)}))
	taken, err = s.Facts.Claim(ctx, []entry.Ref{ref(b)}, []decide.Claim{{Ref: ref(b), Key: "userName=x"}})
	require.NoError(t, err)
	assert.Empty(t, taken)
}

func skipLocked(t *testing.T, s *Store) {
	ctx := t.Context()
	var all []*entry.Entry
	for i := range 10 {
		all = append(all, somebody(i, fmt.Sprintf("CN=%d,DC=example", i)))
	}
	_, err := s.Entries.Store(ctx, halvard, all)
	require.NoError(t, err)
	err = s.Tx(ctx, func(one *Store) error {
		first, err := one.Dirty.Next(ctx, DirtyQuery{State: DirtyNow, Limit: 6})
		require.NoError(t, err)
		assert.Len(t, first, 6)
		return s.Tx(ctx, func(two *Store) error {
			second, err := two.Dirty.Next(ctx, DirtyQuery{State: DirtyNow, Limit: 10})
			require.NoError(t, err)
			assert.Len(t, second, 4)
			after, err := two.Dirty.Next(ctx, DirtyQuery{State: DirtyNow, After: ref(all[7]), Limit: 10})
			assert.Len(t, after, 2)
			return err
		})
	})
	require.NoError(t, err)
}

func orders(t *testing.T, s *Store) {
	ctx := t.Context()
	const one, two = "00000000-0000-4000-8000-000000000001", "00000000-0000-4000-8000-000000000002"
	run := s.newRun(t)
	reading, probe := Order{Directory: "skerry", Request: protocol.Order{Read: &protocol.Read{}}}, Order{Directory: "skerry", Request: protocol.Order{Probe: &protocol.Probe{}}}
	require.NoError(t, s.Orders.Add(ctx, &reading))
	require.NoError(t, s.Orders.Add(ctx, &probe))
	for _, want := range []struct {
		lane protocol.Lane
		id   int64
	}{{protocol.LanePasswords, 0}, {protocol.LaneAny, probe.ID}, {protocol.LaneQuick, 0}, {protocol.LaneAny, reading.ID}} {
		next, _, err := s.Orders.Take(ctx, one, []string{"skerry"}, want.lane, time.Minute)
		require.NoError(t, err)
		assert.Equal(t, want.id, next.ID, "a probe comes before a reading, and who is there for quick orders takes none")
	}
	order := Order{RunID: &run, Directory: "halvard", Request: protocol.Order{Directory: "halvard", Read: &protocol.Read{Cookie: []byte{0, 1, 255}}}}
	require.NoError(t, s.Orders.Add(ctx, &order))
	_, ok, err := s.Orders.Take(ctx, one, []string{"brisling"}, protocol.LaneAny, time.Minute)
	require.NoError(t, err)
	assert.False(t, ok, "it serves another directory")
	got, ok, err := s.Orders.Take(ctx, one, []string{"halvard"}, protocol.LaneAny, time.Minute)
	require.NoError(t, err)
	require.True(t, ok)
	assert.Equal(t, order.Request.Read.Cookie, got.Request.Read.Cookie)
	_, ok, err = s.Orders.Take(ctx, two, []string{"halvard"}, protocol.LaneAny, time.Minute)
	require.NoError(t, err)
	assert.False(t, ok, "it is leased")
	mine, err := s.Orders.Keep(ctx, order.ID, one, -time.Second, OrderCounts{Read: 5}) // a lease that has lapsed
	require.NoError(t, err)
	assert.True(t, mine)
	_, ok, err = s.Orders.Take(ctx, two, []string{"halvard"}, protocol.LaneAny, time.Minute)
	require.NoError(t, err)
	assert.True(t, ok, "another agent takes over")
	mine, err = s.Orders.Keep(ctx, order.ID, one, time.Minute, OrderCounts{})
	require.NoError(t, err)
	assert.False(t, mine, "and the first one is told")
	require.NoError(t, s.Orders.End(ctx, order.ID, "", "", OrderCounts{Read: 9}))
	done, found, err := s.Orders.OfRun(ctx, run, "halvard")
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "done", done.State)
	assert.Equal(t, 9, done.Counts.Read)
}

func superseded(t *testing.T, s *Store) {
	ctx := t.Context()
	a, b, c := somebody(1, "CN=A,DC=example"), somebody(2, "CN=B,DC=example"), somebody(3, "CN=C,DC=example")
	_, err := s.Entries.Store(ctx, halvard, []*entry.Entry{a, b, c})
	require.NoError(t, err)
	s.clean(t)
	run := s.newRun(t)
	diffs := []change.Diff{{Target: "title", After: `a "quoted" {value}`, Source: "from title"}}
	require.NoError(t, s.Changes.Add(ctx, run, []NewChange{
		{Ref: ref(a), Operation: plan.Create, DN: a.DN, Name: "a", Diffs: diffs}, {Ref: ref(b), Operation: plan.Suspend, DN: b.DN, Name: "b", Diffs: diffs},
		{Ref: ref(c), DN: c.DN, Name: "c", Code: "duplicate-login", Detail: "both sides"},
	}))
	creations, err := s.Changes.Next(ctx, run, 1, 0, 10)
	require.NoError(t, err)
	require.Len(t, creations, 1)
	assert.Equal(t, diffs, creations[0].Diffs)
	_, err = s.Changes.BeginSending(ctx, run, creations)
	require.NoError(t, err)
	require.NoError(t, s.Changes.SupersedeOpen(ctx, run))
	dirty, err := s.Dirty.Next(ctx, DirtyQuery{State: DirtyNow, Limit: 10})
	require.NoError(t, err)
	require.Len(t, dirty, 2)
	assert.True(t, dirty[0].Lookup, "what was sent is looked up first")
	assert.False(t, dirty[1].Lookup)
	counts, err := s.Changes.Count(ctx, run)
	require.NoError(t, err)
	assert.Equal(t, map[[2]string]int{{"create", "superseded"}: 1, {"suspend", "superseded"}: 1, {"none", "blocked"}: 1}, counts)
	page, total, err := s.Changes.List(ctx, ChangeQuery{Run: run, Limit: 10})
	require.NoError(t, err)
	assert.Equal(t, Total{N: 1}, total, "superseded changes are left out unless asked for")
	assert.Equal(t, "both sides", page[0].Answer)
	page, _, err = s.Changes.List(ctx, ChangeQuery{Run: run, State: "superseded", Text: "CN=B", Limit: 10})
	require.NoError(t, err)
	require.Len(t, page, 1)
	page, _, err = s.Changes.List(ctx, ChangeQuery{Run: run, Text: "100%_", Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, page, "wildcards in the text are plain characters")
}

func problems(t *testing.T, s *Store) {
	ctx := t.Context()
	a := somebody(1, "CN=A,DC=example")
	_, err := s.Entries.Store(ctx, halvard, []*entry.Entry{a})
	require.NoError(t, err)
	met := func(run int64, code problem.Code) Problem {
		facts := problem.Facts{Attribute: "userName", Resources: []problem.Resource{{ID: "r1"}, {ID: "r2", Owner: &problem.Entry{Name: "CN=B"}}}}
		require.NoError(t, s.Problems.Save(ctx, MetByPlan, run, []NewProblem{{about.EntryOf(ref(a)), code, facts, "detail"}, {about.EntryOf(ref(a)), "near-miss", problem.Facts{}, "the first one counts"}}))
		p, found, err := s.Problems.OfEntry(ctx, ref(a))
		require.NoError(t, err)
		require.True(t, found)
		assert.Equal(t, facts, p.Facts)
		assert.Equal(t, a.DN, p.Name)
		return p
	}
	first := met(1, "duplicate-login")
	assert.Equal(t, 1, met(1, "duplicate-login").Times, "twice in one run is once")
	again := met(2, "duplicate-login")
	assert.Equal(t, 2, again.Times)
	assert.Equal(t, first.Since, again.Since)
	other := met(3, "value-refused")
	assert.Equal(t, 1, other.Times)
	assert.True(t, other.Since.After(first.Since))
	counts, err := s.Problems.CountByCode(ctx)
	require.NoError(t, err)
	assert.Equal(t, []CodeCount{{Code: "value-refused", Count: 1}}, counts)
	require.NoError(t, s.Problems.Close(ctx, 3, []entry.Ref{ref(a)}))
	_, total, err := s.Problems.List(ctx, ProblemQuery{Limit: 10})
	require.NoError(t, err)
	assert.Zero(t, total)
	third := met(4, "duplicate-login")
	assert.NotEqual(t, first.ID, third.ID, "one that comes back is another occurrence")
	history, total, err := s.Problems.List(ctx, ProblemQuery{Closed: true, Type: about.Entry, Key: ref(a).String(), Limit: 10})
	require.NoError(t, err)
	require.Equal(t, 2, total)
	assert.Equal(t, []string{ClosedGone, ClosedReplaced}, []string{history[0].Closing, history[1].Closing}, "the last first")
	assert.Equal(t, []int64{1, 2}, []int64{history[1].FirstRun, history[1].LastRun})

	// What ended a run is of what it is about, until a run comes to its end.
	directory := about.Thing{Type: about.Directory, Key: "halvard"}
	for run := range int64(2) {
		require.NoError(t, s.Problems.Save(ctx, MetByRun, 5+run, []NewProblem{{directory, problem.DirectoryUnreachable, problem.Facts{Answer: "refused"}, "refused"}}))
	}
	require.NoError(t, s.Problems.Watched(ctx, nil))
	away := []NewProblem{{about.Thing{Type: about.Directory, Key: "brisling"}, problem.AgentOffline, problem.Facts{}, "nobody"}}
	for run := range int64(3) { // seen by the watch first, then by two runs
		require.NoError(t, s.Problems.Watched(ctx, away))
		require.NoError(t, s.Problems.Save(ctx, MetByRun, 6+min(run, 1), away))
	}
	list, _, err := s.Problems.List(ctx, ProblemQuery{Key: "brisling", Type: about.Directory, Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, []int64{2, 6, 7}, []int64{int64(list[0].Times), list[0].FirstRun, list[0].LastRun})
	require.NoError(t, s.Problems.Watched(ctx, away))
	require.NoError(t, s.Problems.Watched(ctx, nil))
	standing, err := s.Problems.Standing(ctx)
	require.NoError(t, err)
	require.Len(t, standing, 1, "who does not meet it does not close it")
	assert.Equal(t, 2, standing[0].Times)
	// Who answers otherwise is no longer away.
	require.NoError(t, s.Problems.Save(ctx, MetByRun, 8, []NewProblem{{directory, problem.DirectoryRefused, problem.Facts{}, "busy"}}))
	standing, err = s.Problems.Standing(ctx)
	require.NoError(t, err)
	require.Len(t, standing, 1)
	assert.Equal(t, problem.DirectoryRefused, standing[0].Code)
	require.NoError(t, s.Problems.CloseOfRuns(ctx, 9, []string{"halvard"}))
	standing, err = s.Problems.Standing(ctx)
	require.NoError(t, err)
	require.Len(t, standing, 1, "a directory that was left out has it still")
	require.NoError(t, s.Problems.CloseOfRuns(ctx, 10, nil))
	require.NoError(t, s.Removed.Forget(ctx, "halvard"))
	history, total, err = s.Problems.List(ctx, ProblemQuery{Closed: true, Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, 6, total)
	assert.Equal(t, ClosedTaken, history[0].Closing)
	require.NoError(t, s.Problems.Prune(ctx, time.Now().Add(time.Minute)))
	_, total, err = s.Problems.List(ctx, ProblemQuery{Closed: true, Limit: 1})
	require.NoError(t, err)
	assert.Zero(t, total)
}

func memberships(t *testing.T, s *Store) {
	ctx := t.Context()
	group := func(n int, dn string, members ...string) *entry.Entry {
		e := somebody(n, dn)
		e.Kind, e.Members = entry.Group, members
		return e
	}
	a, b := somebody(1, "CN=A,DC=example"), somebody(2, "CN=B,DC=example")
	inner, outer := group(10, "CN=Inner,DC=example", a.DN), group(11, "CN=Outer,DC=example", "cn=inner, dc=example", "CN=Stranger,DC=else")
	_, err := s.Entries.Store(ctx, halvard, []*entry.Entry{outer, inner, a, b})
	require.NoError(t, err)
	require.NoError(t, s.Entries.ResolveMembers(ctx, "halvard"))
	groups := func(e *entry.Entry) ([]string, []string) {
		e.Directory = "halvard"
		require.NoError(t, s.Facts.FillGroups(ctx, []*entry.Entry{e}))
		return e.Groups, e.AllGroups
	}
	direct, all := groups(a)
	assert.Equal(t, []string{inner.DN}, direct)
	assert.Equal(t, []string{inner.DN, outer.DN}, all)
	members, unknown, err := s.Entries.CountMembers(ctx, entry.Ref{Directory: "halvard", ID: outer.ID})
	require.NoError(t, err)
	assert.Equal(t, [2]int{2, 1}, [2]int{members, unknown})

	s.clean(t)
	_, err = s.Entries.Store(ctx, halvard, []*entry.Entry{group(11, outer.DN, inner.DN, b.DN), group(10, inner.DN, a.DN)})
	require.NoError(t, err)
	assert.Equal(t, 2, s.dirtyCount(t), "only whom the change concerns")
	s.clean(t)
	_, err = s.Entries.Store(ctx, halvard, []*entry.Entry{group(11, outer.DN, b.DN)})
	require.NoError(t, err)
	assert.Equal(t, 3, s.dirtyCount(t), "a group that leaves a group concerns its people")
	_, all = groups(a)
	assert.Equal(t, []string{inner.DN}, all)

	// A cycle of groups ends.
	_, err = s.Entries.Store(ctx, halvard, []*entry.Entry{group(11, outer.DN, inner.DN, b.DN), group(10, inner.DN, a.DN, outer.DN)})
	require.NoError(t, err)
	_, all = groups(b)
	assert.Equal(t, []string{inner.DN, outer.DN}, all)
	s.clean(t)
	_, err = s.Entries.MarkGone(ctx, "halvard", []entry.ID{outer.ID})
	require.NoError(t, err)
	assert.Equal(t, 4, s.dirtyCount(t), "the groups, and the people in them")
	_, all = groups(b)
	assert.Empty(t, all)
}

func find(t *testing.T, s *Store) {
	ctx := t.Context()
	a := somebody(1, "CN=Ada Lind,OU=Fleet,DC=example")
	_, err := s.Entries.Store(ctx, halvard, []*entry.Entry{a, somebody(2, "CN=Bo,OU=Fleet,DC=example")})
	require.NoError(t, err)
	require.NoError(t, s.Entries.SaveState(ctx, DirectoryState{Directory: "halvard", Base: "DC=example", Attributes: []string{"cn"}, Read: time.Now()}))
	_, err = s.Resources.Store(ctx, entry.User, []entry.Resource{resource("r1", "ada@halvard.example", a.LinkKey()), resource("r2", "only@halvard.example", "")}, nil, true)
	require.NoError(t, err)
	require.NoError(t, s.Links.Save(ctx, 1, []NewLink{{ref(a), entry.User, a.LinkKey(), "r1", "adopt"}}))
	for _, text := range []string{a.LinkKey(), "cn=ada lind, ou=FLEET, dc=example", "2.5.4.3=Ada Lind,organizationalUnitName=Fleet,DC=example", "ADA@halvard.example", "r1"} {
		ids, _ := entry.ParseIDs(text)
		hit, _, found, err := s.Search.Exact(ctx, text, ids, AnyObject)
		require.NoError(t, err)
		assert.True(t, found, text)
		assert.Equal(t, a.ID.String(), hit.EntryID, text)
	}
	hit, _, found, err := s.Search.Exact(ctx, "only@halvard.example", nil, AnyObject)
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "resource", hit.Type)
	_, _, found, err = s.Search.Exact(ctx, "nobody", nil, AnyObject)
	require.NoError(t, err)
	assert.False(t, found)
}

func secrets(t *testing.T, s *Store) {
	ctx := t.Context()
	require.NoError(t, s.Agents.AddEnrolment(ctx, "good", "test", time.Now().Add(time.Minute), []string{"halvard"}))
	require.NoError(t, s.Agents.AddEnrolment(ctx, "late", "test", time.Now().Add(-time.Minute), nil))
	found, used, err := s.Agents.UseEnrolment(ctx, "good")
	require.NoError(t, err)
	assert.True(t, used)
	assert.Equal(t, []string{"halvard"}, []string(found.Directories))
	found, used, err = s.Agents.UseEnrolment(ctx, "good")
	require.NoError(t, err)
	assert.False(t, used)
	assert.NotNil(t, found.Used)
	found, used, err = s.Agents.UseEnrolment(ctx, "late")
	require.NoError(t, err)
	assert.False(t, used)
	assert.True(t, found.Used == nil && !found.Expires.IsZero())
	_, used, err = s.Agents.UseEnrolment(ctx, "never issued")
	require.NoError(t, err)
	assert.False(t, used)
	for secret, expires := range map[string]time.Duration{"valid": time.Hour, "ended": -time.Hour} {
		require.NoError(t, s.Operators.AddToken(ctx, &Token{ID: somebody(len(secret)+int(expires.Hours()), "").ID.String(), Hash: HashSecret(secret), Kind: "token", Name: secret, Role: "viewer", Expires: time.Now().Add(expires)}))
	}
	token, err := s.Operators.TokenBySecret(ctx, "valid")
	require.NoError(t, err)
	assert.Equal(t, "valid", token.Name)
	_, err = s.Operators.TokenBySecret(ctx, "ended")
	assert.True(t, NotFound(err))
	require.NoError(t, s.Operators.DropExpired(ctx))
	tokens, err := s.Operators.Tokens(ctx)
	require.NoError(t, err)
	assert.Len(t, tokens, 1)
}

func oneRunner(t *testing.T, s *Store) {
	ctx := t.Context()
	// What a stopped service has open ends by itself, and the lock's number with it
	// refuses what it would still keep.
	var ends string
	require.NoError(t, s.raw(ctx, `SHOW idle_in_transaction_session_timeout`).Scan(&ends).Error)
	assert.Equal(t, "20s", ends)
	_, err := s.WithRunLock(ctx, func(ctx context.Context) error {
		require.NoError(t, s.Fenced(ctx, func(*Store) error { return nil }))
		require.NoError(t, LockOf(ctx).Check())
		require.NoError(t, s.with(ctx).Exec(`UPDATE run_lock SET epoch = epoch + 1`).Error)
		assert.ErrorIs(t, s.Fenced(ctx, func(*Store) error { return nil }), ErrLockLost)
		assert.ErrorIs(t, LockOf(ctx).Check(), ErrLockLost)
		return nil
	})
	require.NoError(t, err)
	got, err := s.WithRunLock(ctx, func(ctx context.Context) error {
		second, err := s.WithRunLock(ctx, func(context.Context) error { t.Error("two at once"); return nil })
		assert.False(t, second)
		return err
	})
	require.NoError(t, err)
	assert.True(t, got)
	got, err = s.WithRunLock(ctx, func(context.Context) error { return nil })
	require.NoError(t, err)
	assert.True(t, got, "the lock ends with the connection")
	first := s.newRun(t)
	id, err := s.Runs.New(ctx, Run{Purpose: purpose.Sync, By: "schedule"}, true)
	require.NoError(t, err)
	assert.Zero(t, id, "the schedule asks for no run while one is open")
	open, ok, err := s.Runs.Open(ctx)
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, first, open.ID)
}

func events(t *testing.T, s *Store) {
	ctx, cancel := context.WithCancel(t.Context())
	got := make(chan Event, 16)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		s.Listen(ctx, func(e Event) { got <- e })
	}()
	assert.Equal(t, Event{}, <-got, "listening begins with an empty event")
	require.NoError(t, s.Notify(ctx, Event{Kind: "run", ID: 7}))
	assert.Equal(t, Event{Kind: "run", ID: 7}, <-got)
	cancel()
	<-ended
}

// clockBehind is what a database leaves whose clock is a quarter of an hour behind.
func clockBehind(t *testing.T, s *Store) {
	ctx := t.Context()
	require.NoError(t, s.compareClocks(ctx))
	assert.Zero(t, s.Ahead(), "that of this test agrees")
	s.ahead.Store(int64(-15 * time.Minute))
	agent := Agent{ID: "9b1a6c1e-6f0e-4f63-9f0b-0d5d5f6d2c11", Name: "one", PublicKey: "{}", Directories: []string{}, Granted: []string{}, Plain: []string{}, Enrolled: time.Now()}
	require.NoError(t, s.Agents.Save(ctx, &agent))
	_, err := s.exec(ctx, `UPDATE agents SET last_contact = now() - interval '15 minutes'`)
	require.NoError(t, err)
	for name, read := range map[string]func() (Agent, error){
		"one": func() (Agent, error) { return s.Agents.Get(ctx, agent.ID) },
		"all": func() (Agent, error) { all, err := s.Agents.List(ctx); return all[0], err },
	} {
		got, err := read()
		require.NoError(t, err)
		require.NotNil(t, got.LastContact)
		assert.WithinDuration(t, time.Now(), *got.LastContact, time.Minute, "%s: heard of just now", name)
	}
	assert.Less(t, s.Since(time.Now().Add(-15*time.Minute)), time.Minute, "what it says was sent then was sent just now, and is not sent again")
	about, err := s.About(ctx)
	require.NoError(t, err)
	assert.Equal(t, -15*time.Minute, about.Ahead)
	assert.NotEmpty(t, about.Version)
}

func activated(t *testing.T, s *Store) {
	ctx := t.Context()
	revision := Revision{Document: settings.Default(settings.Directory{Name: "halvard", Dialect: entry.AD, Base: "DC=example"}), By: "test"}
	require.NoError(t, s.Tx(ctx, func(tx *Store) error { return tx.Settings.Activate(ctx, &revision, false) }))
	active, ok, err := s.Settings.Active(ctx)
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, revision.Document, active.Document)
}

func prune(t *testing.T, s *Store) {
	ctx := t.Context()
	ended := time.Now().Add(-48 * time.Hour)
	for i, changes := range []int{0, 3, 0} {
		run, err := s.Runs.Get(ctx, s.newRun(t))
		require.NoError(t, err)
		require.NoError(t, s.Changes.Add(ctx, run.ID, []NewChange{{Ref: ref(somebody(i, "CN=A,DC=example")), DN: "CN=A,DC=example", Code: "duplicate-login"}}))
		run.State, run.Ended, run.Counts.Changes = progress.InStep, &ended, changes
		require.NoError(t, s.Runs.Save(ctx, &run))
	}
	n, err := s.Runs.Prune(ctx, time.Now().Add(-24*time.Hour), time.Now().Add(-90*24*time.Hour))
	require.NoError(t, err)
	assert.EqualValues(t, 1, n, "the one that changed something stays, and so does the last")
	var left int
	require.NoError(t, s.raw(ctx, `SELECT count(*) FROM changes`).Scan(&left).Error)
	assert.Equal(t, 2, left, "what a run has planned goes with it")
	runs, total, err := s.Runs.List(ctx, RunQuery{Changed: true, Limit: 10})
	require.NoError(t, err)
	assert.Equal(t, 1, total)
	assert.Equal(t, 3, runs[0].Counts.Changes)
}

func onTheirWay(t *testing.T, s *Store) {
	ctx := t.Context()
	run := s.newRun(t)
	var planned []NewChange
	for i := range 3 {
		e := somebody(i+1, fmt.Sprintf("CN=%d,DC=example", i))
		planned = append(planned, NewChange{Ref: ref(e), Operation: plan.Create, DN: e.DN})
	}
	require.NoError(t, s.Changes.Add(ctx, run, planned))
	changes, err := s.Changes.Next(ctx, run, 1, 0, 10)
	require.NoError(t, err)
	require.Len(t, changes, 3)
	states := func() (states []string) {
		now, err := s.Changes.Again(ctx, changes)
		require.NoError(t, err)
		for _, c := range now {
			states = append(states, fmt.Sprint(c.State, c.Attempts, c.Sent != nil))
		}
		return states
	}
	sending, err := s.Changes.BeginSending(ctx, run, changes[:2])
	require.NoError(t, err)
	assert.Equal(t, []string{"planned0 false", "planned0 false", "planned0 false"}, states())
	require.NoError(t, s.Changes.SaveOutcomes(ctx, &sending, []Outcome{{Change: changes[0], State: "done", ResourceID: "r1"}}))
	require.NoError(t, s.Changes.EndSending(ctx, sending, false))
	assert.Equal(t, []string{"done1 true", "sent1 true", "planned0 false"}, states())
	sending, err = s.Changes.BeginSending(ctx, run, changes[2:])
	require.NoError(t, err)
	require.NoError(t, s.Changes.SaveOutcomes(ctx, &sending, []Outcome{{Change: changes[2], State: "done", ResourceID: "r3"}}))
	require.NoError(t, s.Changes.EndSending(ctx, sending, true))
	assert.Equal(t, []string{"done1 true", "sent1 true", "done1 true"}, states())
	var left int
	require.NoError(t, s.raw(ctx, `SELECT count(*) FROM sendings`).Scan(&left).Error)
	assert.Zero(t, left)
}

// claimsWait is what lets a batch go on beside the one before it that has claimed.
func claimsWait(t *testing.T, s *Store) {
	ctx := t.Context()
	a, b := somebody(1, "CN=A,DC=example"), somebody(2, "CN=B,DC=example")
	_, err := s.Entries.Store(ctx, halvard, []*entry.Entry{a, b})
	require.NoError(t, err)
	claim := func(tx *Store, e *entry.Entry) (map[string]decide.Claimant, error) {
		return tx.Facts.Claim(ctx, []entry.Ref{ref(e)}, []decide.Claim{{Ref: ref(e), Key: "userName=x"}})
	}
	taken := make(chan map[string]decide.Claimant, 1)
	require.NoError(t, s.Tx(ctx, func(first *Store) error {
		holders, err := claim(first, a)
		require.NoError(t, err)
		assert.Empty(t, holders)
		go func() {
			_ = s.Tx(ctx, func(second *Store) error {
				holders, err := claim(second, b)
				taken <- holders
				return err
			})
		}()
		require.Eventually(t, func() bool {
			var waits bool
			require.NoError(t, s.raw(ctx, `SELECT EXISTS (SELECT FROM pg_locks WHERE NOT granted)`).Scan(&waits).Error)
			return waits
		}, 10*time.Second, 10*time.Millisecond, "the second waits")
		assert.Empty(t, taken)
		return nil
	}))
	assert.Equal(t, ref(a), (<-taken)["userName=x"].Ref)
}

func statementsWithoutValues(t *testing.T, s *Store) {
	var log bytes.Buffer
	before := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&log, nil)))
	defer slog.SetDefault(before)
	var n int
	require.Error(t, s.raw(t.Context(), `SELECT ?::text::integer`, "Hunter-2-Harbour").Scan(&n).Error)
	assert.Contains(t, log.String(), "a statement failed")
	assert.NotContains(t, log.String(), "Hunter")
}
