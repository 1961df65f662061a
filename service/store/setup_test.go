package store

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/core/survey"
	protocol "kambrel.example/kambrel/protocol/orders"
)

func drafts(t *testing.T, s *Store) {
	ctx := t.Context()
	_, found, err := s.Settings.Draft(ctx)
	require.NoError(t, err)
	assert.False(t, found)
	document := settings.Default(settings.Directory{Name: "halvard", Dialect: entry.AD, Base: "DC=example"})
	draft := Draft{Base: 3, Document: document, By: "ingrid"}
	require.NoError(t, s.Settings.SaveDraft(ctx, &draft))
	first := draft.Version
	impact, err := s.Runs.New(ctx, Run{Purpose: purpose.Impact, Draft: first, Document: &document}, false)
	require.NoError(t, err)
	look, err := s.Runs.New(ctx, Run{Purpose: purpose.Look, Draft: first, Document: &document}, false)
	require.NoError(t, err)
	run, found, err := s.Runs.OfDraft(ctx, first)
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, impact, run.ID)
	assert.Equal(t, document, *run.Document, "a run keeps the draft that it works by")

	require.NoError(t, s.Settings.SaveDraft(ctx, &draft))
	assert.Greater(t, draft.Version, first)
	cancelled, _, err := s.Runs.Asked(ctx, impact)
	require.NoError(t, err)
	assert.True(t, cancelled, "the impact of an older version is of no use")
	cancelled, _, err = s.Runs.Asked(ctx, look)
	require.NoError(t, err)
	assert.False(t, cancelled, "what was read is of use to any version")
	again, found, err := s.Settings.Draft(ctx)
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, document, again.Document)

	dropped, err := s.Settings.DropDraft(ctx)
	require.NoError(t, err)
	assert.True(t, dropped)
	dropped, err = s.Settings.DropDraft(ctx)
	require.NoError(t, err)
	assert.False(t, dropped)
	require.NoError(t, s.Settings.SaveDraft(ctx, &draft))
	assert.Greater(t, draft.Version, again.Version, "a version never comes again, also after a draft was discarded")
}

func cancelling(t *testing.T, s *Store) {
	ctx := t.Context()
	writes := s.newRun(t)
	found, err := s.Runs.Cancel(ctx, writes)
	require.NoError(t, err)
	assert.False(t, found, "a run that writes is never cut short")
	survey, err := s.Runs.New(ctx, Run{Purpose: purpose.Survey}, false)
	require.NoError(t, err)
	found, err = s.Runs.Cancel(ctx, survey)
	require.NoError(t, err)
	assert.True(t, found)
	// The run's own progress does not take the wish back.
	run, err := s.Runs.Get(ctx, survey)
	require.NoError(t, err)
	require.NoError(t, s.Runs.Save(ctx, &run))
	cancelled, _, err := s.Runs.Asked(ctx, survey)
	require.NoError(t, err)
	assert.True(t, cancelled)
	ended := time.Now()
	run.State, run.Ended = progress.InStep, &ended
	require.NoError(t, s.Runs.Save(ctx, &run))
	last, found, err := s.Runs.LastOf(ctx, "survey")
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, survey, last.ID)
	_, found, err = s.Runs.Last(ctx)
	require.NoError(t, err)
	assert.False(t, found, "a survey does not count for the schedule")
}

func containers(t *testing.T, s *Store) {
	ctx := t.Context()
	group := somebody(20, "CN=Crew,OU=Fleet,DC=example")
	group.Kind = entry.Group
	_, err := s.Entries.Store(ctx, halvard, []*entry.Entry{
		container(1, "OU=Fleet,DC=example"), container(2, "OU=Deck,OU=Fleet,DC=example"), container(3, `OU=a\,b/c,DC=example`),
		somebody(10, "CN=A,OU=Fleet,DC=example"), somebody(11, "CN=B,OU=Deck,OU=Fleet,DC=example"), somebody(12, "CN=C,OU=Deck,OU=Fleet,DC=example"), somebody(13, `CN=D,OU=a\,b/c,DC=example`), group,
	})
	require.NoError(t, err)
	got, err := s.Entries.Containers(ctx, "halvard")
	require.NoError(t, err)
	counts := map[string][3]int{}
	for _, c := range got {
		counts[c.DN] = [3]int{c.Users, c.Groups, c.Contacts}
	}
	assert.Equal(t, map[string][3]int{"OU=Fleet,DC=example": {1, 1, 0}, "OU=Deck,OU=Fleet,DC=example": {2, 0, 0}, `OU=a\,b/c,DC=example`: {1, 0, 0}}, counts)

	// A container that was renamed is found by its former name, one that was
	// deleted is told as such.
	_, err = s.Entries.Store(ctx, halvard, []*entry.Entry{container(1, "OU=Ships,DC=example")})
	require.NoError(t, err)
	path := func(dn string) string {
		parsed, err := entry.ParseDN(dn)
		require.NoError(t, err)
		return parsed.Path()
	}
	now, deleted, err := s.Entries.Vanished(ctx, "halvard", path("OU=Fleet,DC=example"))
	require.NoError(t, err)
	assert.Equal(t, "OU=Ships,DC=example", now)
	assert.False(t, deleted)
	_, err = s.Entries.MarkGone(ctx, "halvard", []entry.ID{container(3, "").ID})
	require.NoError(t, err)
	_, deleted, err = s.Entries.Vanished(ctx, "halvard", path(`OU=a\,b/c,DC=example`))
	require.NoError(t, err)
	assert.True(t, deleted)
	now, deleted, err = s.Entries.Vanished(ctx, "halvard", path("OU=Never,DC=example"))
	require.NoError(t, err)
	assert.True(t, now == "" && !deleted)

	seen := 0
	require.NoError(t, s.Entries.Each(ctx, []string{"halvard", "other"}, []entry.Kind{entry.User}, 2, func(batch []*entry.Entry) error {
		assert.LessOrEqual(t, len(batch), 2)
		seen += len(batch)
		return nil
	}))
	assert.Equal(t, 4, seen)
}

func removals(t *testing.T, s *Store) {
	ctx := t.Context()
	a, b := somebody(1, "CN=A,DC=example"), somebody(2, "CN=B,DC=example")
	_, err := s.Entries.Store(ctx, halvard, []*entry.Entry{a, b})
	require.NoError(t, err)
	_, err = s.Resources.Store(ctx, entry.User, []entry.Resource{resource("r1", "a@halvard.example", a.LinkKey()), resource("r2", "b@halvard.example", b.LinkKey())}, nil, true)
	require.NoError(t, err)
	require.NoError(t, s.Links.Save(ctx, 1, []NewLink{{ref(a), entry.User, a.LinkKey(), "r1", "create"}, {ref(b), entry.User, b.LinkKey(), "r2", "create"}}))
	require.NoError(t, s.Entries.SaveState(ctx, DirectoryState{Directory: "halvard", Base: "DC=example", Read: time.Now()}))
	entries, links, err := s.Removed.CountsOf(ctx, "halvard")
	require.NoError(t, err)
	active, err := s.Links.CountWorking(ctx, "halvard")
	require.NoError(t, err)
	assert.Equal(t, [3]int{2, 2, 2}, [3]int{entries, links, active})

	removal, err := s.Removed.TakeAway(ctx, settings.Directory{Name: "halvard", Base: "DC=example"}, "ingrid", time.Now().Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, 2, removal.Links)
	entries, links, err = s.Removed.CountsOf(ctx, "halvard")
	require.NoError(t, err)
	assert.Zero(t, entries+links)
	state, err := s.Entries.StateOf(ctx, "halvard")
	require.NoError(t, err)
	assert.Empty(t, state.Directory, "it is read from the start when it comes back")
	_, err = s.Resources.Get(ctx, "r1")
	require.NoError(t, err, "the accounts stay")

	// Somebody linked one of the accounts to another entry meanwhile.
	other := somebody(9, "CN=X,DC=example")
	require.NoError(t, s.Links.Save(ctx, 2, []NewLink{{entry.Ref{Directory: "brisling", ID: other.ID}, entry.User, other.LinkKey(), "r2", "adopt"}}))
	listed, err := s.Removed.List(ctx)
	require.NoError(t, err)
	require.Len(t, listed, 1)
	assert.Equal(t, "DC=example", listed[0].Directory.Base)
	back, err := s.Removed.BringBack(ctx, removal.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, back, "the account that is another's now stays with it")
	link, err := s.Links.Of(ctx, ref(a))
	require.NoError(t, err)
	assert.Equal(t, "r1", link.ResourceID)

	late, err := s.Removed.TakeAway(ctx, settings.Directory{Name: "halvard"}, "ingrid", time.Now().Add(-time.Second))
	require.NoError(t, err)
	listed, err = s.Removed.List(ctx)
	require.NoError(t, err)
	assert.Empty(t, listed, "undo ends")
	require.NoError(t, s.Removed.Drop(ctx))
	back, err = s.Removed.BringBack(ctx, late.ID)
	require.NoError(t, err)
	assert.Zero(t, back)
}

func surveys(t *testing.T, s *Store) {
	ctx := t.Context()
	run, err := s.Runs.New(ctx, Run{Purpose: purpose.Survey}, false)
	require.NoError(t, err)
	a := somebody(1, "CN=A,DC=example")
	finding := func(code survey.Code, value, proposal string, action survey.Action) survey.Finding {
		return survey.Finding{Code: code, Kind: entry.User, Directory: "halvard", EntryID: a.ID, DN: a.DN, Name: "A", Attribute: "mail", Value: value, Detail: "because", Action: action, Proposal: proposal}
	}
	yes := true
	save := func(findings ...survey.Finding) {
		require.NoError(t, s.Surveys.SaveFindings(ctx, run, findings, []survey.Domain{{Name: "halvard.example", Entries: 7, Verified: &yes}}))
	}
	save(finding(survey.AddressTwice, "x", "", survey.None))
	save(finding(survey.LoginMalformed, "100%_", "y", survey.Set), finding(survey.AddressTwice, "x", "", survey.Remove), finding(survey.AddressTwice, "z", "", survey.None))
	groups, domains, err := s.Surveys.Of(ctx, run)
	require.NoError(t, err)
	require.Len(t, groups, 2, "an interrupted attempt leaves nothing behind")
	assert.Equal(t, [2]int{2, 1}, [2]int{groups[1].Count, groups[1].Repairable})
	assert.Equal(t, 7, domains[0].Entries)
	page, total, err := s.Surveys.Findings(ctx, FindingQuery{Run: run, Code: string(survey.AddressTwice), Offset: 1, Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, 2, total)
	assert.Equal(t, 3, page[0].Number)
	page, _, err = s.Surveys.Findings(ctx, FindingQuery{Run: run, Text: "0%_"})
	require.NoError(t, err)
	assert.Len(t, page, 1, "wildcards in the text are plain characters")
	page, _, err = s.Surveys.Findings(ctx, FindingQuery{Run: run, Numbers: []int{1, 3}, Directory: "halvard"})
	require.NoError(t, err)
	assert.Len(t, page, 2)
}

func repairs(t *testing.T, s *Store) {
	ctx := t.Context()
	a := somebody(1, "CN=A,DC=example")
	item := func(before, after string) RepairItem {
		return RepairItem{Directory: "halvard", EntryID: a.ID.String(), DN: a.DN, Attribute: "mail", Before: before, After: after}
	}
	id, err := s.Repairs.Add(ctx, "ingrid", 0, []RepairItem{item("a", "b"), item("c", "d"), item("e", "")})
	require.NoError(t, err)
	waiting, err := s.Repairs.Waiting(ctx)
	require.NoError(t, err)
	assert.Len(t, waiting[id], 3)
	require.NoError(t, s.Repairs.Save(ctx, id, []protocol.Repaired{{Number: 1}, {Number: 2, Code: "directory-refused", Detail: "busy"}}))
	require.NoError(t, s.Repairs.Save(ctx, id, []protocol.Repaired{{Number: 1}}), "an order that is done again says the same")
	repair, err := s.Repairs.Get(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, [3]int{1, 1, 1}, [3]int{repair.Done, repair.Failed, repair.Waiting})
	assert.Equal(t, "busy", repair.Items[1].Answer)
	require.NoError(t, s.Repairs.Fail(ctx, id, []int{1, 3}, "agent-offline", "nobody"))
	repair, err = s.Repairs.Get(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, [3]int{1, 2, 0}, [3]int{repair.Done, repair.Failed, repair.Waiting}, "what was done stays done")
	var lines []string
	require.NoError(t, s.raw(ctx, `SELECT by || ' ' || kind || ' ' || subject || ' ' || before || ' ' || after || ' ' || result || ' ' || note FROM acts ORDER BY id`).Scan(&lines).Error)
	assert.Equal(t, []string{
		`ingrid repair-value ` + ref(a).String() + ` {"mail": "a"} {"mail": "b"} done repair 1`,
		`ingrid repair-value ` + ref(a).String() + ` {"mail": "c"} {"mail": "d"} failed repair 1: busy`,
		`ingrid repair-value ` + ref(a).String() + ` {"mail": "e"} {"mail": ""} failed repair 1: nobody`,
	}, lines)
	all, err := s.Repairs.List(ctx, 10)
	require.NoError(t, err)
	assert.Len(t, all, 1)
	_, err = s.Repairs.Get(ctx, 99)
	assert.True(t, NotFound(err))
}

func probes(t *testing.T, s *Store) {
	ctx := t.Context()
	_, found, err := s.Orders.LastProbe(ctx, "halvard")
	require.NoError(t, err)
	assert.False(t, found)
	var ids []int64
	for range 2 {
		order := Order{Directory: "halvard", Request: protocol.Order{Directory: "halvard", Probe: &protocol.Probe{}}}
		require.NoError(t, s.Orders.Add(ctx, &order))
		require.NoError(t, s.Orders.SaveVerdicts(ctx, order.ID, []protocol.Verdict{{Step: "tls", Outcome: "bad", Detail: "expired"}}))
		require.NoError(t, s.Orders.End(ctx, order.ID, "", "", OrderCounts{}))
		ids = append(ids, order.ID)
	}
	last, found, err := s.Orders.LastProbe(ctx, "halvard")
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, ids[1], last.ID)
	assert.Equal(t, "expired", last.Result[0].Detail)
	require.NoError(t, s.Orders.Prune(ctx, time.Now().Add(time.Minute)))
	_, err = s.Orders.Get(ctx, ids[0])
	assert.True(t, NotFound(err))
	_, err = s.Orders.Get(ctx, ids[1])
	assert.NoError(t, err, "the last probe is kept")
}

func everybody(t *testing.T, s *Store) {
	ctx := t.Context()
	var all []*entry.Entry
	var links []NewLink
	for i := range 7 {
		e := somebody(i+1, "CN="+string(rune('A'+i))+",DC=example")
		all = append(all, e)
		if i%2 == 0 {
			links = append(links, NewLink{ref(e), entry.User, e.LinkKey(), "r" + e.LinkKey(), "create"})
		}
	}
	_, err := s.Entries.Store(ctx, halvard, all)
	require.NoError(t, err)
	require.NoError(t, s.Links.Save(ctx, 1, links))
	_, err = s.Entries.MarkGone(ctx, "halvard", []entry.ID{all[0].ID, all[1].ID}) // one with a link, one without
	require.NoError(t, err)
	s.written.Store(muchWritten)
	require.NoError(t, s.Learn(ctx))
	require.Zero(t, s.written.Load())
	for linked, want := range map[bool]int{true: 4, false: 2} {
		var after entry.Ref
		got := 0
		for {
			page, last, err := s.Cases.Page(ctx, linked, after, 2)
			require.NoError(t, err)
			for _, d := range page {
				assert.Equal(t, linked, d.Link != nil)
			}
			got, after = got+len(page), last
			if last == (entry.Ref{}) {
				break
			}
		}
		assert.Equal(t, want, got, "linked: %v", linked)
	}
}
