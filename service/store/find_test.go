package store

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/person"
	"kambrel.example/kambrel/core/plan"
)

// listed has one object in each state, two entries of one person and a group.
func listed(t *testing.T, s *Store) {
	ctx := t.Context()
	named := func(n int, name string) *entry.Entry {
		e := somebody(n, "CN="+name+",OU=Fleet,DC=example")
		e.Attributes["cn"] = []string{name}
		return e
	}
	inStep, problem, gone, left, changing, outside, group := named(1, "Ada"), named(2, "Bo"), named(3, "Cai"), named(4, "Dag"), named(5, "eli"), named(6, "Finn"), named(7, "Galley")
	group.Kind = entry.Group
	changing.Attributes["displayName"] = []string{" "} // blank: cn counts
	outside.Attributes["userPrincipalName"] = []string{"100%_finn@halvard.example"}
	all := []*entry.Entry{inStep, problem, gone, left, changing, outside, group, container(8, "OU=Fleet,DC=example")}
	_, err := s.Entries.Store(ctx, halvard, all)
	require.NoError(t, err)
	away := named(1, "Ada Away")
	away.Directory = "brisling"
	_, err = s.Entries.Store(ctx, Source{Directory: "brisling", ByName: true}, []*entry.Entry{away})
	require.NoError(t, err)
	awayRef := entry.Ref{Directory: "brisling", ID: away.ID}
	resources := []entry.Resource{resource("r1", "Ada.Lind@halvard.example", inStep.LinkKey()), resource("r4", "dag@halvard.example", left.LinkKey()), resource("r5", "eli@halvard.example", changing.LinkKey()), resource("r9", "only@halvard.example", "")}
	_, err = s.Resources.Store(ctx, entry.User, resources, nil, true)
	require.NoError(t, err)
	require.NoError(t, s.Links.Save(ctx, 1, []NewLink{{ref(inStep), entry.User, inStep.LinkKey(), "r1", "adopt"}, {ref(left), entry.User, left.LinkKey(), "r4", "create"}, {ref(changing), entry.User, changing.LinkKey(), "r5", "create"}}))
	lead := person.Member{Directory: "halvard", ID: inStep.ID}
	require.NoError(t, s.Persons.Save(ctx, []person.Outcome{{Member: person.Member{Directory: "brisling", ID: away.ID}, Lead: &lead, Rule: "same number"}}))
	require.NoError(t, s.Links.SetLeft(ctx, []Leaving{{Ref: ref(left)}}))
	require.NoError(t, s.Problems.Save(ctx, MetByPlan, s.newRun(t), []NewProblem{{About: about.EntryOf(ref(problem)), Code: "login-taken", Detail: "x"}}))
	_, err = s.exec(ctx, `UPDATE entries SET gone = ? WHERE id = ?`, time.Now(), gone.ID.String())
	require.NoError(t, err)
	s.clean(t)
	_, err = s.exec(ctx, `INSERT INTO dirty (directory, entry_id) VALUES ('halvard', ?)`, changing.ID.String())
	require.NoError(t, err)

	everybody := []string{"Ada", "Ada Away", "Bo", "Cai", "Dag", "eli", "Finn", "Galley", "Name of r9"}
	backwards := slices.Clone(everybody)
	slices.Reverse(backwards)
	for _, c := range []struct {
		name  string
		query FindQuery
		want  []string
	}{
		{"everybody, by name, without regard to case", FindQuery{}, everybody},
		{"backwards", FindQuery{Sort: "-name"}, backwards},
		{"by login, who has none first", FindQuery{Sort: "login", State: "in-step"}, []string{"Ada", "Ada Away"}},
		{"in step, by the own link and by that of the lead", FindQuery{State: "in-step"}, []string{"Ada", "Ada Away"}},
		{"with a problem", FindQuery{State: "problem"}, []string{"Bo"}},
		{"removed from the directory", FindQuery{State: "removed"}, []string{"Cai"}},
		{"suspended", FindQuery{State: "suspended"}, []string{"Dag"}},
		{"changing", FindQuery{State: "changing"}, []string{"eli"}},
		{"not synced", FindQuery{State: "not-synced"}, []string{"Finn", "Galley"}},
		{"not synced, of a kind", FindQuery{State: "not-synced", Kind: "group"}, []string{"Galley"}},
		{"in the cloud only", FindQuery{State: "cloud-only"}, []string{"Name of r9"}},
		{"by the entry's name", FindQuery{Text: "CN=BO"}, []string{"Bo"}},
		{"by what only the resource has", FindQuery{Text: "ada.lind"}, []string{"Ada", "Ada Away"}},
		{"by the name of a resource that nobody owns", FindQuery{Text: "of r9"}, []string{"Name of r9"}},
		{"signs of patterns are text", FindQuery{Text: "100%_"}, []string{"Finn"}},
		{"no pattern", FindQuery{Text: "a_a"}, nil},
		{"by id", FindQuery{Text: "n/a", IDs: []entry.ID{left.ID}}, []string{"Dag"}},
		{"text and state", FindQuery{Text: "fleet", State: "suspended"}, []string{"Dag"}},
		{"among some", FindQuery{Among: []entry.Ref{ref(problem), ref(left), awayRef}}, []string{"Ada Away", "Bo", "Dag"}},
		{"among nobody", FindQuery{Among: []entry.Ref{}}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.query.Limit = 20
			hits, total, err := s.Search.Find(ctx, c.query)
			require.NoError(t, err)
			var names []string
			for _, hit := range hits {
				names = append(names, hit.Name)
				if c.query.State != "" {
					assert.Equal(t, c.query.State, hit.State, "the state that is asked for is the one that is shown")
				}
			}
			assert.Equal(t, c.want, names)
			assert.Equal(t, Total{N: len(c.want)}, total)
		})
	}

	// Pages follow one another, and behind the end there is still a total.
	var paged []string
	for offset := 0; ; offset += 2 {
		page, total, err := s.Search.Find(ctx, FindQuery{Offset: offset, Limit: 2})
		require.NoError(t, err)
		assert.Equal(t, Total{N: len(everybody)}, total)
		if len(page) == 0 {
			break
		}
		for _, hit := range page {
			paged = append(paged, hit.Name)
		}
	}
	assert.Equal(t, everybody, paged)
	byLogin, _, err := s.Search.Find(ctx, FindQuery{Sort: "-login", Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, "only@halvard.example", byLogin[0].Login)
	_, _, err = s.Search.Find(ctx, FindQuery{Sort: "password", Limit: 1})
	assert.ErrorContains(t, err, "sort")

	// Of more than are counted it is told so, and pages are the same.
	for _, c := range []struct {
		query FindQuery
		want  []string
	}{
		{FindQuery{}, everybody},
		{FindQuery{Sort: "-name"}, backwards},
		{FindQuery{State: "in-step"}, []string{"Ada", "Ada Away"}},
		{FindQuery{State: "not-synced", Sort: "-name"}, []string{"Galley", "Finn"}},
		{FindQuery{Sort: "state", Kind: "user", State: "not-synced"}, []string{"Finn"}},
	} {
		c.query.Limit, c.query.Most = 20, 1
		hits, total, err := s.Search.Find(ctx, c.query)
		require.NoError(t, err)
		var names []string
		for _, hit := range hits {
			names = append(names, hit.Name)
		}
		assert.Equal(t, c.want, names, "%+v", c.query)
		assert.Equal(t, Total{1, len(c.want) > 1}, total, "%+v", c.query)
	}
	hits, total, err := s.Search.Find(ctx, FindQuery{Text: "ada away", Limit: 20, Most: 1})
	require.NoError(t, err)
	assert.Equal(t, "Ada Away", hits[0].Name, "whoever is called so is among the few of many that are gathered")
	assert.False(t, total.AtLeast)
	states := func() (ordered []string) {
		for offset := 0; ; offset += 2 {
			page, _, err := s.Search.Find(ctx, FindQuery{Sort: "-state", Offset: offset, Limit: 2})
			require.NoError(t, err)
			for _, hit := range page {
				ordered = append(ordered, hit.State+" "+hit.Name)
			}
			if len(page) < 2 {
				return ordered
			}
		}
	}
	assert.Equal(t, []string{"suspended Dag", "removed Cai", "problem Bo", "not-synced Finn", "not-synced Galley", "in-step Ada", "in-step Ada Away", "cloud-only Name of r9", "changing eli"}, states(), "pages go on from one state into the next")

	// What has no link is known without looking at all.
	loose := func() (names []string) {
		hits, _, err := s.Search.Find(ctx, FindQuery{State: "cloud-only", Limit: 20})
		require.NoError(t, err)
		for _, hit := range hits {
			names = append(names, hit.ResourceID)
		}
		return names
	}
	require.NoError(t, s.Links.Save(ctx, 1, []NewLink{{ref(inStep), entry.User, "key-9", "r9", "adopt"}}))
	assert.Equal(t, []string{"r1"}, loose(), "a link that is led elsewhere frees what it had")
	require.NoError(t, s.Links.Drop(ctx, []entry.Ref{ref(inStep), ref(left)}))
	assert.Equal(t, []string{"r1", "r4", "r9"}, loose())
	require.NoError(t, s.Resources.Drop(ctx, []string{"r4"}))
	assert.Equal(t, []string{"r1", "r9"}, loose())
	require.NoError(t, s.Links.Save(ctx, 1, []NewLink{{ref(left), entry.User, "key-4", "r4", "adopt"}}))
	_, err = s.Resources.Store(ctx, entry.User, []entry.Resource{resource("r4", "dag@halvard.example", "")}, nil, true)
	require.NoError(t, err)
	assert.Equal(t, []string{"r1", "r9"}, loose(), "what comes back to its link is not loose")
	_, err = s.exec(ctx, `DELETE FROM loose_resources`) // as if nobody had seen it
	require.NoError(t, err)
	require.NoError(t, s.Resources.FindLoose(ctx))
	assert.Equal(t, []string{"r1", "r9"}, loose())
}

// indexedParts makes the indexes once a mirror is large, and anew after one was broken off.
func indexedParts(t *testing.T, s *Store) {
	ctx := t.Context()
	var many []*entry.Entry
	for i := range fewSearched {
		e := somebody(i+1, fmt.Sprintf("CN=Crew %05d,OU=Fleet,DC=example", i))
		e.Attributes["cn"] = []string{fmt.Sprintf("Crew %05d", i)}
		many = append(many, e)
	}
	valid := func() (names []string) {
		require.NoError(t, s.raw(ctx, `SELECT c.relname FROM pg_class c JOIN pg_index i ON i.indexrelid = c.oid WHERE c.relname LIKE '%parts' AND i.indisvalid`).Scan(&names).Error)
		return names
	}
	_, err := s.Entries.Store(ctx, halvard, many[1:])
	require.NoError(t, err)
	_, err = s.exec(ctx, `ANALYZE entries`)
	require.NoError(t, err)
	require.NoError(t, s.Search.IndexParts(ctx))
	assert.Empty(t, valid(), "few are read through")
	_, err = s.Entries.Store(ctx, halvard, many[:1])
	require.NoError(t, err)
	_, err = s.exec(ctx, `ANALYZE entries`)
	require.NoError(t, err)
	require.NoError(t, s.Search.IndexParts(ctx))
	assert.Equal(t, []string{"entries_parts"}, valid())
	_, err = s.exec(ctx, `UPDATE pg_index SET indisvalid = false WHERE indexrelid = 'entries_parts'::regclass`)
	require.NoError(t, err)
	require.NoError(t, s.Search.IndexParts(ctx))
	assert.Equal(t, []string{"entries_parts"}, valid())
	hits, total, err := s.Search.Find(ctx, FindQuery{Text: "rew 04999", Limit: 2})
	require.NoError(t, err)
	assert.Equal(t, Total{N: 1}, total)
	assert.Equal(t, "Crew 04999", hits[0].Name)
}

func pagedChanges(t *testing.T, s *Store) {
	ctx := t.Context()
	var entries []*entry.Entry
	var changes []NewChange
	for i := range 7 {
		e := somebody(i, "CN=Crew "+string(rune('A'+i))+",OU=Fleet,DC=example")
		entries = append(entries, e)
		changes = append(changes, NewChange{Ref: ref(e), Kind: entry.User, Operation: plan.Create, DN: e.DN, Name: "Søren" + string(rune('0'+i))})
	}
	changes[6].Operation = plan.Update
	_, err := s.Entries.Store(ctx, halvard, entries)
	require.NoError(t, err)
	run, other := s.newRun(t), s.newRun(t)
	require.NoError(t, s.Changes.Add(ctx, run, changes))
	require.NoError(t, s.Changes.Add(ctx, other, changes[:1]))
	for _, c := range []struct {
		name  string
		query ChangeQuery
		names []string
		total int
	}{
		{"the first page", ChangeQuery{Limit: 3}, []string{"Søren0", "Søren1", "Søren2"}, 7},
		{"by operation", ChangeQuery{Operation: "update", Limit: 3}, []string{"Søren6"}, 1},
		{"by name, without regard to case", ChangeQuery{Text: "SØREN4", Limit: 3}, []string{"Søren4"}, 1},
		{"by distinguished name", ChangeQuery{Text: "cn=crew b", Limit: 3}, []string{"Søren1"}, 1},
		{"signs of patterns are text", ChangeQuery{Text: "S%n", Limit: 3}, nil, 0},
		{"nothing", ChangeQuery{State: "failed", Limit: 3}, nil, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.query.Run = run
			page, total, err := s.Changes.List(ctx, c.query)
			require.NoError(t, err)
			var names []string
			for _, change := range page {
				names = append(names, change.Name)
			}
			assert.Equal(t, c.names, names)
			assert.Equal(t, Total{N: c.total}, total)
		})
	}
	first, _, err := s.Changes.List(ctx, ChangeQuery{Run: run, Limit: 5})
	require.NoError(t, err)
	rest, total, err := s.Changes.List(ctx, ChangeQuery{Run: run, After: first[4].ID, Limit: 5})
	require.NoError(t, err)
	assert.Len(t, rest, 2)
	assert.Equal(t, Total{N: 7}, total)
	behind, total, err := s.Changes.List(ctx, ChangeQuery{Run: run, After: rest[1].ID, Limit: 5})
	require.NoError(t, err)
	assert.Empty(t, behind)
	assert.Equal(t, Total{N: 7}, total, "behind the end there is still a total")
}
